// @ts-check
// Reshaping: what is wanted of the playing, where attacks go, and the second clock, on which the result is shown.

import { addressOf } from "../studio/address.js";
import { clock, clocked } from "../studio/clock.js";
import { AWAY, Latest, note, noteWhile, send, tryJson } from "../studio/server.js";
import { Dragging } from "./dragging.js";
import { drawWanted } from "./lane_drawing.js";
import { place } from "./places.js";

/** @typedef {Pick<import("../desk/desk.js").Desk, "attacks" | "before" | "facts" | "go" | "grid" | "laneHeight" | "loop" | "loopBar" | "panels" | "player" | "redraw" | "scroller" | "setFacts" | "setLoop" | "setMap" | "step" | "view">} Needs what this uses of the desk */

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
  "#lay-form": (_r, form) => ({
    do: "place",
    track: Number(form.elements.track.value),
    bar: whole(form.elements.bar) ?? 1,
  }),
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

/** Seconds ahead of the playhead at which a switch would go on; blocks that the server surely still has. */
const AHEAD = 0.5;
const MADE = 60;

/** Whether the other take follows this one. */
const thisLeads = (form) => form.elements.leads.value === "this";

export class Reshaping {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.latest = new Latest();
    this.dragging = new Dragging(desk, this);
    this.state = { key: "", tightenings: [], moves: [], hushes: [] };
    /** @type {import("./places.js").Clock | null} */
    this.warp = null; // of what is shown, from the recording
    /** @type {Set<string>} blocks of results that the server has made */
    this.made = new Set();
    setInterval(() => this.#keepReady(), 400);
    /** @type {Promise<unknown>} */
    this.turn = Promise.resolve(); // one change after the other
    this.changing = 0; // changes under way that the panel will show
    document.addEventListener("click", (e) => this.#clicked(e.target.closest("button")?.dataset ?? {}));
    document.addEventListener("submit", (e) => this.#submitted(e));
    document.body.addEventListener("reshaped", () => this.ask(true).then(() => desk.panels.refresh()));
    document.body.addEventListener("session-state", (e) =>
      this.#written(/** @type {CustomEvent} */ (e).detail.written),
    );
    document.addEventListener("input", (e) => this.#turned(e.target));
    document.addEventListener("change", (e) => {
      if (/** @type {HTMLElement} */ (e.target).closest("#tighten-form")) desk.redraw();
      const select = /** @type {HTMLSelectElement} */ (e.target);
      const track = select.dataset.engine;
      if (!track) return;
      this.compared = Number(track);
      this.make({ do: "engine", track: this.compared, engine: select.value });
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

  /** Read the state again, because something else has changed it. `show`: switch to the result, if any. */
  async ask(show = false) {
    if (this.desk.step === null) return;
    const state = await this.latest.read(`${this.#url}/state`);
    if (this.awaited && state && state.key !== this.state.key) [show, this.awaited] = [true, false];
    if (state) await this.#take(state, show || this.shown); // as it is when the answer comes
  }

  /** Send a change to the server. Changes are sent one after the other; the panel is made over after each. */
  make(request) {
    if (request.do === "amount") return this.#inTurn(() => this.#make(request)); // its slider is still dragged
    this.changing += 1;
    return this.#inTurn(() =>
      this.#make(request).finally(() => {
        this.changing -= 1;
        this.desk.panels.refresh();
      }),
    );
  }

  #inTurn(act) {
    this.turn = this.turn.then(act, act);
    return this.turn;
  }

  async #make(request) {
    const begun = performance.now();
    const { ok, data } = await send(this.#url, request);
    if (!ok) return note(data.error ?? "That could not be done.", true);
    this.latest.overtake();
    const first = !this.shown && data.key && ["tighten", "conform", "amount", "move", "place"].includes(request.do);
    await this.#take(data, first || this.shown);
    this.latency = performance.now() - begun;
    if (first) note("You hear the result now. Ctrl Enter switches to the recording and back.");
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
    const [from, to] = [this.warp, key && key === this.state.key ? this.state.clock : null];
    const moved = (t) => place(to, place(from, t, true));
    clock.key = key;
    const [facts, map] = await Promise.all(
      ["facts", "map"].map((what) => tryJson(`/sessions/${desk.facts.id}/${what}`)),
    );
    if (clock.key !== key) return undefined;
    if (!facts || !map) {
      clock.key = before;
      return note(AWAY, true);
    }
    const longer = facts.seconds !== desk.facts.seconds || map.grid.time.some((t, i) => t !== grid.time[i]);
    if (key && longer) await noteWhile("Making the sound of the result here ...", this.#ready(facts, moved(seconds)));
    if (clock.key !== key) return undefined;
    desk.setFacts(facts);
    this.warp = to;
    if (longer) {
      desk.setMap(map);
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
  async #ready(facts, seconds, key = clock.key) {
    const tracks = facts.tracks.filter((t) => t.analysed).map((t) => t.id);
    const first = Math.max(0, Math.floor((seconds * facts.rate) / facts.block));
    const fresh = [first, first + 1].filter((n) => !this.made.has(`${key}/${n}`));
    await Promise.all(
      fresh.map(async (n) => {
        const url = clocked(`/sessions/${facts.id}/blocks/${n}?tracks=${tracks}`, key);
        const answer = await fetch(url).catch(() => null);
        if (answer?.ok) this.made.add(`${key}/${n}`);
      }),
    );
  }

  /** While the recording is heard, the result is kept ready where a switch would go, a little ahead. */
  async #keepReady() {
    const { desk, state } = this;
    if (this.shown || !state.key || this.preparing || document.hidden) return;
    this.preparing = true;
    if (this.made.size > MADE) this.made.clear(); // the server forgets too
    const ahead = desk.player.playing ? AHEAD : 0;
    await this.#ready(desk.facts, place(state.clock, desk.player.seconds + ahead), state.key);
    this.preparing = false;
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
    return [...(form?.querySelectorAll("[name=tracks]:checked") ?? [])].map((box) => Number(box.value));
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
    if (!found?.seconds.length) return void note("Tick the player whose attack is to move.", true);
    if (this.shown) return void note("Choose the attack on the recording: Ctrl Enter goes there.", true);
    const at = found.seconds.reduce((a, b) =>
      Math.abs(b - desk.player.seconds) < Math.abs(a - desk.player.seconds) ? b : a,
    );
    return { do: "move", track: id, attack: at, ms };
  }

  /** Tighten the stretch as the form says. */
  tighten() {
    const form = /** @type {HTMLFormElement | null} */ (document.getElementById("tighten-form"));
    if (!form) return note("Open Reshape first: there you say how.", true);
    return form.requestSubmit();
  }

  /** The attack at the playhead by so many ms more than it goes already; null: to its place in the grid. */
  moveAttack(ms) {
    const request = document.getElementById("tighten-form") && this.oneAttack(ms);
    if (!request) return undefined; // it was said why
    const had = this.state.moves.find(
      (m) => m.tracks.includes(request.track) && Math.abs(m.from - request.attack) < 1e-3,
    );
    if (ms !== null && had) request.ms += 1000 * (had.to - had.from);
    return this.make(request);
  }

  /** The ticked player, or the one whose engine was chosen last, stretched by the next engine; what is heard follows. */
  async stepEngine(by) {
    const selects = /** @type {HTMLSelectElement[]} */ ([...document.querySelectorAll("[data-engine]")]);
    const id = this.compared ?? this.chosenTracks()[0];
    const select = selects.find((s) => Number(s.dataset.engine) === id) ?? selects[0];
    if (!select) return note("Open Reshape first.", true);
    const [at, count] = [select.selectedIndex, select.options.length];
    select.selectedIndex = (at + by + count) % count;
    const name = this.desk.facts.tracks.find((t) => t.id === Number(select.dataset.engine))?.name;
    await this.make({ do: "engine", track: Number(select.dataset.engine), engine: select.value });
    return note(`${name}: ${select.options[select.selectedIndex].text}`);
  }

  /** @param {Record<string, string | undefined>} data of the button */
  #clicked({ clock: to, reshape, stretch, seek, at }) {
    const { desk } = this;
    if (at) this.#atPlayhead(...at.split(" "));
    if (to !== undefined) this.show(to ? this.state.key : "");
    if (reshape) this.make(JSON.parse(reshape));
    // places are given in seconds of the recording
    if (stretch) desk.setLoop(stretch.split(" ").map((t) => place(this.warp, Number(t))));
    if (seek) desk.go(place(this.warp, Number(seek)));
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

  /** Ask for the link of two takes. It is found in the background; then the page shows the follower's result. */
  async #link(form) {
    const [own, other] = [this.desk.facts.id, Number(form.elements.other.value)];
    const [follower, leader] = thisLeads(form) ? [other, own] : [own, other];
    const bars = Number(form.elements.bars_later.value) || 0;
    const { ok, data } = await send(`/sessions/${follower}/reshape/link`, {
      leader,
      by: form.elements.by.value,
      bars_later: bars,
    });
    if (!ok) return note(data.error ?? "The takes could not be linked.", true);
    this.awaited = follower === own;
    const open = { words: "Open it", act: () => (location.href = addressOf(`/sessions/${other}/desk`)) };
    return follower === own
      ? note("The takes are being linked.")
      : note("The takes are being linked; the other one follows.", false, open);
  }

  /** Ask for the link of two tracks; it is found in the background. */
  async #linkTracks(form) {
    const [track, leader] = [form.elements.track, form.elements.leader].map((f) => Number(f.value));
    const { ok, data } = await send(`${this.#url}/link-tracks`, { track, leader });
    if (!ok) return note(data.error ?? "The tracks could not be linked.", true);
    this.awaited = true;
    return note("The tracks are being linked.");
  }

  #submitted(e) {
    const links = { "link-form": (form) => this.#link(form), "link-tracks-form": (form) => this.#linkTracks(form) };
    if (links[e.target.id]) {
      e.preventDefault();
      links[e.target.id](e.target);
    }
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

  /** Over a track's lane, on the recording's clock. */
  draw(context, track, top, height) {
    if (!this.shown) drawWanted(context, this, track, top, height);
  }
}
