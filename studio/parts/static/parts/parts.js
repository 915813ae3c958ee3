// @ts-check
// Parts on the desk: their notes in the lanes, what makes them change, and the event by which the panel tells of it.

import { INK, SANS } from "../desk/palette.js";
import { getJson, Latest } from "../studio/server.js";
import { Keyboard } from "./keyboard.js";
import { Roll } from "./roll.js";

/** @typedef {Pick<import("../desk/desk.js").Desk, "bar" | "editing" | "facts" | "go" | "grid" | "isSilenced" | "player" | "redraw" | "setFacts" | "step" | "view" | "wake">} Needs what this uses of the desk */

export class Parts {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.notes = new Map(); // part -> {start, end, pitch, velocity, low, high}
    this.latest = new Latest(); // an answer that comes late must not bring back notes of before
    this.roll = new Roll(desk);
    this.keyboard = new Keyboard(desk);
    document.body.addEventListener("parts-changed", () => this.changed());
    document.addEventListener("click", (e) => {
      const id = e.target.closest("[data-roll]")?.dataset.roll;
      if (id) this.roll.open(Number(id));
    });
  }

  /** Parts came, went or changed: lanes and sound follow. */
  async changed() {
    const { desk } = this;
    desk.setFacts(await getJson(`/sessions/${desk.facts.id}/facts`));
    await this.follow();
  }

  /** The map or the notes changed: ask where they sound now. */
  async follow() {
    const { desk } = this;
    this.roll.follow(desk.facts.parts);
    if (desk.step === null || !desk.facts.parts.length) return;
    const found = await this.latest.read(`/sessions/${desk.facts.id}/parts`);
    if (!found) return;
    this.step = found.step;
    this.notes.clear();
    for (const p of found.parts) {
      // lanes are drawn as high as the notes reach, but not higher than an octave asks for
      const low = Math.min(...p.pitch);
      this.notes.set(p.id, { ...p, low, high: Math.max(low + 6, ...p.pitch) });
    }
    desk.player.renew();
    const told = document.querySelectorAll("[data-apart]");
    for (const el of told) el.textContent = words(this.notes.get(Number(el.dataset.apart)));
    desk.redraw();
  }

  draw(context, part, top, height) {
    const data = this.notes.get(part.id);
    const { view } = this.desk;
    const silent = this.desk.isSilenced(part);
    context.fillStyle = INK.paper;
    context.fillRect(0, top, view.width, height - 1);
    if (data?.start.length) {
      const [tall, room] = [Math.max(2, Math.min(7, (height - 14) / (data.high - data.low + 1))), height - 14];
      context.fillStyle = silent ? INK.faint : INK.wave;
      for (let i = 0; i < data.start.length; i++) {
        if (data.end[i] < view.start || data.start[i] > view.end) continue;
        const x = view.x(data.start[i]);
        const y = top + 6 + room - tall - ((data.pitch[i] - data.low) / (data.high - data.low)) * (room - tall);
        context.globalAlpha = 0.35 + (0.65 * data.velocity[i]) / 127;
        context.fillRect(x, y, Math.max(2, view.x(data.end[i]) - x - 0.5), tall);
      }
      context.globalAlpha = 1;
    }
    context.font = `500 13px ${SANS}`;
    context.fillStyle = INK.faded;
    context.textBaseline = "alphabetic";
    const tie = part.rides ? "rides the bars" : "keeps the clock";
    const wide = context.measureText(tie).width;
    context.fillStyle = INK.sheet;
    context.fillRect(2, top + 1, wide + 8, 16); // notes and lines pass behind it
    context.fillStyle = INK.faded;
    context.fillText(tie, 6, top + 13);
    context.fillStyle = INK.rule;
    context.fillRect(0, top + height - 1, view.width, 1);
  }
}

export function words(notes) {
  if (!notes || notes.largest < 0.05) return "";
  return `${notes.mean.toFixed(notes.mean < 10 ? 1 : 0)} ms apart on average, ${notes.largest.toFixed(0)} ms at most`;
}
