// @ts-check
// The tempo as it is felt, over the dots of the beats: a smooth curve, averages of sections, arches of phrases.

import { INK, SANS } from "./palette.js";
import { tryJson } from "../studio/server.js";

/** @typedef {Pick<import("./desk.js").Desk, "facts" | "redraw" | "view">} Needs what this uses of the desk */

export class TempoPicture {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.data = null;
    this.shown = localStorage.getItem("tempo-picture") !== "off";
  }

  /** The map, or its sections, changed. */
  async ask() {
    const data = await tryJson(`/sessions/${this.desk.facts.id}/tempo`);
    this.data = data?.at?.length ? data : null;
    this.desk.redraw();
  }

  toggle() {
    this.shown = !this.shown;
    localStorage.setItem("tempo-picture", this.shown ? "on" : "off");
    this.desk.redraw();
  }

  /** @param {(bpm: number) => number} y */
  draw(context, y) {
    const { data, desk } = this;
    if (!data || !this.shown) return;
    const { view } = desk;
    context.save();
    context.font = `500 12px ${SANS}`;
    context.textBaseline = "alphabetic";
    /** @type {[number, number, number][]} left, right and base line of each number written so far */
    const written = [];
    for (const s of data.stretches) {
      if (s.end < view.start || s.start > view.end) continue;
      const [a, b] = [view.x(s.start), view.x(s.end)];
      if (data.sections) {
        context.strokeStyle = context.fillStyle = INK.faded;
        context.setLineDash([2, 3]);
        line(context, [a, y(s.average)], [b, y(s.average)]);
        const words = s.average.toFixed(1);
        const [x, base] = [Math.max(4, a + 4), y(s.average) - 4];
        const right = x + context.measureText(words).width;
        // sections may overlap, their numbers may not
        const covers = written.some(([from, to, other]) => x < to && from < right && Math.abs(base - other) < 12);
        if (right < b - 2 && !covers) {
          context.fillText(words, x, base);
          written.push([x, right, base]);
        }
      }
      if (s.arch) this.#arch(context, s, a, b, y);
    }
    context.setLineDash([]);
    context.strokeStyle = INK.violet;
    context.lineWidth = 1.75;
    context.beginPath();
    let begun = false;
    for (let i = 0; i < data.at.length; i++) {
      if (data.at[i] < view.start - 4 || data.at[i] > view.end + 4) continue;
      if (begun) context.lineTo(view.x(data.at[i]), y(data.smooth[i]));
      else context.moveTo(view.x(data.at[i]), y(data.smooth[i]));
      begun = true;
    }
    context.stroke();
    context.restore();
  }

  #arch(context, { arch: [p, q, r] }, a, b, y) {
    context.strokeStyle = INK.warning;
    context.setLineDash([6, 4]);
    context.lineWidth = 1;
    context.beginPath();
    for (let k = 0; k <= 24; k++) {
      const x = k / 12 - 1;
      const at = [a + ((b - a) * k) / 24, y(p + q * x + r * x * x)];
      if (k) context.lineTo(at[0], at[1]);
      else context.moveTo(at[0], at[1]);
    }
    context.stroke();
  }
}

function line(context, [x, y], [toX, toY]) {
  context.beginPath();
  context.moveTo(x, y);
  context.lineTo(toX, toY);
  context.stroke();
}
