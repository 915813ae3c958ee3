// @ts-check
// The chords' lane: what stands where, and writing over it. The server reads the symbols and finds their beats.

import { INK, SERIF, fresh } from "../desk/palette.js";
import { clock } from "../studio/clock.js";
import { Latest, note, send } from "../studio/server.js";

/** @typedef {Pick<import("../desk/desk.js").Desk, "facts" | "layout" | "player" | "redraw" | "step" | "view" | "wake">} Needs what this uses of the desk */

export class Chords {
  /** @param {Needs} desk */
  constructor(desk) {
    this.latest = new Latest();
    this.desk = desk;
    this.canvas = document.getElementById("chords");
    this.data = null;
    this.canvas.addEventListener("pointerdown", (e) => this.#open(e));
    document.body.addEventListener("chords-changed", () => this.ask());
    document.addEventListener("click", (e) => {
      const b = e.target.closest("[data-tone]");
      if (b) this.#tone(b);
    });
  }

  async ask() {
    const { desk } = this;
    if (desk.step === null) return;
    const data = await this.latest.read(`/sessions/${desk.facts.id}/chords`);
    if (data) this.#take(data);
  }

  /** The job that finds them ended, here or in another window. */
  async catchUp(step) {
    if (step === null || step === this.data?.step) return;
    await this.ask();
    document.body.dispatchEvent(new CustomEvent("chords-found"));
  }

  #take(data) {
    const had = this.data?.at.length > 0;
    this.data = data;
    const has = data.at.length > 0;
    if (had !== has) {
      document.querySelector(".desk").classList.toggle("with-chords", has);
      this.desk.layout();
    }
    this.desk.redraw();
  }

  #answered({ ok, data }) {
    if (!ok) note(data.error, true);
    this.latest.overtake();
    if (data.at) this.#take(data);
  }

  /** A field over the chord, or over the empty place, that was pressed. */
  #open(e) {
    const { desk, data } = this;
    if (!data) return;
    e.preventDefault();
    this.field?.remove();
    const t = desk.view.time(e.offsetX);
    const here = data.at.findIndex(
      (at, i) => desk.view.x(at) <= e.offsetX && e.offsetX < desk.view.x(at) + this.widths[i],
    );
    if (clock.key) return note("Chords are written on the recording: Ctrl Enter goes there.", true);
    const field = Object.assign(document.createElement("input"), {
      className: "chord-field",
      value: here >= 0 ? data.text[here] : "",
      maxLength: 20,
    });
    field.setAttribute("aria-label", "Chord");
    const box = this.canvas.getBoundingClientRect();
    const x = here >= 0 ? desk.view.x(data.at[here]) : e.offsetX;
    field.style.left = `${box.left + x}px`;
    field.style.top = `${box.top}px`;
    this.field = field;
    let over = false;
    const close = (keep) => {
      if (over) return;
      over = true;
      field.remove();
      const text = field.value.trim();
      if (!keep || text === (here >= 0 ? data.text[here] : "")) return;
      send(`/sessions/${desk.facts.id}/chords/edit`, {
        step: this.data.step,
        at: here >= 0 ? data.at[here] : t,
        text,
      }).then((a) => this.#answered(a));
    };
    field.addEventListener("keydown", (key) => {
      if (key.key === "Enter") close(true);
      if (key.key === "Escape") close(false);
    });
    field.addEventListener("blur", () => close(true));
    document.body.append(field);
    field.focus();
    field.select();
  }

  draw() {
    const { data, desk } = this;
    if (!data?.at.length) return;
    const { context, width, height } = fresh(this.canvas);
    const { view } = desk;
    context.fillStyle = INK.sheet;
    context.fillRect(0, 0, width, height);
    context.textBaseline = "middle";
    // what takes a press: the label, or where there is no room for one, a little behind the chord's line
    this.widths = data.at.map((at, i) => Math.min(14, view.x(data.end[i]) - view.x(at)));
    let free = -Infinity;
    data.at.forEach((at, i) => {
      if (data.end[i] < view.start || at > view.end) return;
      const x = view.x(at);
      context.fillStyle = INK.rule;
      context.fillRect(Math.round(x), 0, 1, height);
      const unsure = data.unsure[i];
      const text =
        data.text[i]
          .replaceAll("#", "♯")
          .replace(/^([A-G])b/, "$1♭")
          .replace(/\/([A-G])b/, "/$1♭") + (unsure ? "?" : "");
      context.font = `${unsure ? "italic 500" : "560"} 16px ${SERIF}`;
      const shown = Math.max(x, 0);
      if (shown < free) return; // no room; zoom in to read it
      const wide = context.measureText(text).width;
      context.fillStyle = unsure ? INK.faded : INK.ink;
      context.fillText(text, shown + 5, height / 2 + 1);
      free = shown + wide + 9;
      this.widths[i] = Math.min(Math.max(wide + 12, 26), Math.max(26, view.x(data.end[i]) - x));
    });
  }

  /** A tone to tune to; pressed again it stops. */
  #tone(button) {
    const { context } = this.desk.player;
    const playing = this.tone?.button === button;
    if (this.tone) {
      this.tone.gain.gain.setTargetAtTime(0, context.currentTime, 0.02);
      this.tone.oscillator.stop(context.currentTime + 0.2);
      this.tone.button.setAttribute("aria-pressed", "false");
      this.tone = null;
    }
    if (playing) return;
    this.desk.wake();
    const oscillator = new OscillatorNode(context, { type: "triangle", frequency: Number(button.dataset.tone) });
    const gain = new GainNode(context, { gain: 0 });
    gain.gain.setTargetAtTime(0.25, context.currentTime, 0.02);
    oscillator.connect(gain).connect(context.destination);
    oscillator.start();
    this.tone = { oscillator, gain, button };
    button.setAttribute("aria-pressed", "true");
  }
}
