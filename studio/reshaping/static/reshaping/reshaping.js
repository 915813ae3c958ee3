// @ts-check
// Reshaping: what is wanted of the playing, where attacks go, and the second clock, on which the result is shown.

import { INK, SANS } from "../desk/palette.js";
import { clock, clocked } from "../studio/clock.js";
import { note, send, tryJson } from "../studio/server.js";
import { samePlace } from "./places.js";

const CHOOSE_STRETCH = "Choose a stretch first: drag along the time above the bars.";
/** A whole number; null where nothing is written, or the field is not there. */
const whole = (field) => (field?.value.trim() ? Number(field.value) : null);
const number = (field) => Number(String(field.value).replace(",", "."));

/** selector of a form: the request that it makes, or undefined with a note */
const FORMS = {
  "#tighten-form": (r, form) => {
    const tracks = r.chosenTracks(form);
    if (!tracks.length) return note("Tick the player whose attacks are to move.", true);
    const toward = form.elements.toward.value;
    const onTrack = /^\d+$/.test(toward);
    return r.overStretch((start, end) => ({
      do: "tighten",
      tracks,
      start,
      end,
      target: onTrack ? "track" : toward,
      other: onTrack ? Number(toward) : null,
      value: form.elements.value.value,
      swing: number(form.elements.swing),
      amount: number(form.elements.amount),
      within: number(form.elements.within),
      beyond: number(form.elements.beyond),
    }));
  },
  "#move-form": (r, form, how) => r.oneAttack(how === "grid" ? null : number(form.elements.ms)),
  "#hush-form": (r, form) =>
    r.overStretch((start, end) => ({
      do: "hush",
      track: Number(form.elements.track.value),
      start,
      end,
      gain: number(form.elements.gain),
      fade: number(form.elements.fade),
    })),
  "#conform-form": (r, form) => ({
    do: "conform",
    kind: form.elements.kind.value,
    bpm: number(form.elements.bpm),
    drift: number(form.elements.drift),
    jitter: number(form.elements.jitter),
    holds: form.elements.holds.value,
    session: Number(form.elements.session?.value) || null,
    bars_later: Number(form.elements.bars_later?.value ?? 0) || 0,
    first: whole(form.elements.first),
    last: whole(form.elements.last),
  }),
};

export class Reshaping {
  constructor(desk) {
    this.desk = desk;
    this.state = { key: "", tightenings: [], moves: [], hushes: [] };
    /** @type {Promise<unknown>} */
    this.turn = Promise.resolve(); // one change after the other
    document.addEventListener("click", (e) => this.#clicked(e.target.closest("button")?.dataset ?? {}));
    document.addEventListener("submit", (e) => this.#submitted(e));
    document.body.addEventListener("reshaped", () => this.ask(true).then(() => desk.panels.refresh()));
    document.body.addEventListener("session-state", (e) =>
      this.#written(/** @type {CustomEvent} */ (e).detail.written),
    );
    document.addEventListener("input", (e) => this.#turned(e.target));
    document.addEventListener("change", (e) => {
      const select = /** @type {HTMLSelectElement} */ (e.target);
      const track = select.dataset.engine;
      if (track) this.make({ do: "engine", track: Number(track), engine: select.value });
    });
  }

  /** Files of a result are ready, or gone. */
  #written(key) {
    if (this.files !== undefined && this.files !== key && this.desk.panels.stage === "reshape")
      this.desk.panels.refresh();
    this.files = key;
  }

  get #url() {
    return `/sessions/${this.desk.facts.id}/reshape`;
  }

  /** Whether the page is on the result's clock. */
  get shown() {
    return clock.key !== "";
  }

  /** Read the state again after a change elsewhere. With `show`, switch to the result if there is one. */
  async ask(show = false) {
    if (this.desk.step === null) return;
    const state = await tryJson(`${this.#url}/state`);
    if (state) await this.#take(state, show || this.shown); // as it is when the answer comes
  }

  /** Ask the server for a change, then switch to the result if there is one. */
  make(request) {
    this.turn = this.turn.then(
      () => this.#make(request),
      () => this.#make(request),
    );
    return this.turn;
  }

  async #make(request) {
    const begun = performance.now();
    const { ok, data } = await send(this.#url, request);
    if (!ok) return note(data.error ?? "That could not be done.", true);
    const first = !this.shown && data.key && ["tighten", "conform", "amount", "move"].includes(request.do);
    await this.#take(data, first || this.shown);
    this.latency = performance.now() - begun;
    if (first) note("You hear the result now. Ctrl Enter switches to the recording and back.");
    if (request.do !== "amount") this.desk.panels.refresh();
    return undefined;
  }

  async #take(state, show) {
    this.state = state;
    this.desk.redraw();
    if (show || this.shown) await this.show(show ? state.key : "");
    this.mark();
  }

  /** From the recording to the result, or back, at the same bar and beat. */
  toggle() {
    if (!this.shown && !this.state.key) return note("Nothing is reshaped: the result is the recording.", true);
    return this.show(this.shown ? "" : this.state.key);
  }

  /** Run the page on the clock of the result named, or (empty) of the recording. */
  async show(key) {
    const { desk } = this;
    if (key === clock.key) return undefined;
    const begun = performance.now();
    const { start: left } = desk.view;
    const [grid, seconds, loop] = [desk.before ?? desk.grid, desk.player.seconds, desk.loop];
    const before = clock.key;
    clock.key = key;
    const [facts, map] = await Promise.all(
      ["facts", "map"].map((what) => tryJson(`/sessions/${desk.facts.id}/${what}`)),
    );
    if (clock.key !== key) return undefined;
    if (!facts || !map) {
      clock.key = before;
      return note("The server does not answer. Nothing is lost; try again when it is back.", true);
    }
    const longer = facts.seconds !== desk.facts.seconds || map.grid.time.some((t, i) => t !== grid.time[i]);
    if (key && longer) await this.#ready(facts, samePlace(grid, map.grid, seconds));
    if (clock.key !== key) return undefined;
    desk.setFacts(facts);
    if (longer) {
      desk.setMap(map);
      const moved = (t) => samePlace(grid, desk.grid, t);
      if (loop) desk.setLoop(loop.map(moved), desk.loopBar);
      await desk.player.relayout(facts);
      await desk.player.seek(moved(seconds));
      desk.view.set(moved(left), desk.view.spp);
    } else desk.player.renew();
    document.body.dataset.clock = key ? "result" : "recording";
    this.switchLatency = performance.now() - begun;
    this.mark();
    desk.redraw();
    return undefined;
  }

  /** Wait until what is to sound next is made: it takes a moment where nobody asked for it before. */
  async #ready(facts, seconds) {
    const tracks = facts.tracks.filter((t) => t.analysed).map((t) => t.id);
    const first = Math.max(0, Math.floor((seconds * facts.rate) / facts.block));
    await Promise.all(
      [first, first + 1].map((n) =>
        fetch(clocked(`/sessions/${facts.id}/blocks/${n}?tracks=${tracks}`)).catch(() => null),
      ),
    );
  }

  /** The buttons say which clock it is. */
  mark() {
    for (const b of document.querySelectorAll("button[data-clock]")) {
      b.setAttribute("aria-checked", String((b.dataset.clock !== "") === this.shown));
      if (b.dataset.clock) b.toggleAttribute("disabled", !this.state.key);
    }
  }

  // ---- the panel

  chosenTracks(form = document.getElementById("tighten-form")) {
    return [...form.querySelectorAll("[name=tracks]:checked")].map((box) => Number(box.value));
  }

  /** A request for the chosen stretch, in the recording's seconds. */
  overStretch(request) {
    const { loop } = this.desk;
    if (!loop) return note(CHOOSE_STRETCH, true);
    if (this.shown && this.state.clock)
      return note("Choose the stretch on the recording: Ctrl Enter goes there.", true);
    return request(...loop);
  }

  /** The attack nearest to the playhead, by so many ms; null: to its place in the grid. */
  oneAttack(ms) {
    const { desk } = this;
    const [id] = this.chosenTracks();
    const track = desk.facts.tracks.find((t) => t.id === id);
    const found = track && desk.attacks.of(track);
    if (!found?.seconds.length) return note("Tick the player whose attack is to move.", true);
    if (this.shown) return note("Choose the attack on the recording: Ctrl Enter goes there.", true);
    const at = found.seconds.reduce((a, b) =>
      Math.abs(b - desk.player.seconds) < Math.abs(a - desk.player.seconds) ? b : a,
    );
    return { do: "move", track: id, attack: at, ms };
  }

  /** @param {Record<string, string | undefined>} data of the button */
  #clicked({ clock: to, reshape, stretch, seek, at }) {
    const { desk } = this;
    if (at) this.#atPlayhead(...at.split(" "));
    if (to !== undefined) this.show(to ? this.state.key : "");
    if (reshape) this.make(JSON.parse(reshape));
    if (stretch) desk.setLoop(stretch.split(" ").map(Number));
    if (seek) desk.go(Number(seek));
  }

  /** The attack at the playhead in or out of a tightening, or a fence there. */
  #atPlayhead(what, key) {
    if (this.shown) return note("Choose the place on the recording: Ctrl Enter goes there.", true);
    const { seconds } = this.desk.player;
    const { attacks } = this.state.tightenings.find((t) => t.key === Number(key)) ?? { attacks: [] };
    if (what === "attack" && !attacks.length) return undefined;
    const near = (a, b) => (Math.abs(b - seconds) < Math.abs(a - seconds) ? b : a);
    return this.make({ do: what, key: Number(key), at: what === "attack" ? attacks.reduce(near) : seconds });
  }

  #submitted(e) {
    for (const [selector, asked] of Object.entries(FORMS)) {
      if (!e.target.matches(selector)) continue;
      e.preventDefault();
      const request = asked(this, e.target, e.submitter?.value);
      if (request?.do) this.make(request);
    }
  }

  #turned(slider) {
    const shown = slider.type === "range" && slider.parentElement?.querySelector("output");
    if (shown && slider.closest("#tighten-form, #conform-form, .reshaped")) shown.textContent = `${slider.value} %`;
    const key = slider.dataset?.amount;
    if (!key) return;
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.make({ do: "amount", key: Number(key), amount: Number(slider.value) }), 50);
  }

  // ---- drawing

  /** Over a track's lane, on the recording's clock: fences, and an arrow from each attack to where it goes. */
  draw(context, track, top, height) {
    if (this.shown) return;
    const { view } = this.desk;
    for (const t of this.state.tightenings.filter((one) => one.tracks.includes(track.id))) {
      context.fillStyle = INK.pin;
      for (const fence of t.fences)
        for (let y = top; y < top + height - 2; y += 7) context.fillRect(Math.round(view.x(fence)), y, 1, 4);
      t.attacks.forEach((at, i) => {
        if (t.moved[i] && at > view.start - 1 && at < view.end + 1)
          this.#arrow(context, at, t.targets[i], top + height);
      });
    }
    for (const m of this.state.moves.filter((one) => one.tracks.includes(track.id)))
      this.#arrow(context, m.from, m.to, top + height);
    for (const h of this.state.hushes.filter((one) => one.track === track.id)) {
      const [x, end] = [view.x(h.start), view.x(h.end)];
      context.fillStyle = INK.sheet;
      context.globalAlpha = 0.75;
      context.fillRect(x, top + 1, end - x, height - 2);
      context.globalAlpha = 1;
      context.font = `500 13px ${SANS}`;
      context.textBaseline = "alphabetic";
      context.fillStyle = INK.faded;
      if (end - x > 60) context.fillText("hushed", Math.max(4, x + 4), top + 14);
    }
  }

  #arrow(context, from, to, bottom) {
    const { view } = this.desk;
    const [a, b] = [view.x(from), view.x(to)];
    const y = bottom - 14;
    context.fillStyle = INK.bar;
    context.fillRect(Math.round(a), y - 4, 1, 9);
    context.fillRect(Math.min(a, b), y, Math.max(1, Math.abs(b - a)), 2);
    const way = Math.sign(b - a);
    context.beginPath();
    context.moveTo(b + 2 * way, y + 1);
    context.lineTo(b - 4 * way, y - 3);
    context.lineTo(b - 4 * way, y + 5);
    context.fill();
  }
}
