// @ts-check
// The first take while it is played: its waveform grows over the empty lanes, and the map so far above it.

import { Grid } from "../desk/grid.js";
import { INK } from "../desk/palette.js";

/** @typedef {Pick<import("../desk/desk.js").Desk, "growing" | "grid" | "redraw" | "view">} Needs what this uses of the desk */

const EVERY = 0.4; // seconds from one drawing to the next

export class GrowingTake {
  /** @param {Needs} desk */
  constructor(desk, rate) {
    this.desk = desk;
    this.rate = rate;
    this.ends = []; // seconds at which each stretch ends
    this.peaks = []; // its largest value
    this.drawnAt = 0;
    desk.growing = this;
  }

  /** @param {Float32Array} data the next samples, interleaved */
  add(data, width) {
    let most = 0;
    for (let i = 0; i < data.length; i++) most = Math.max(most, Math.abs(data[i]));
    const { desk } = this;
    const end = (this.ends.at(-1) ?? 0) + data.length / width / this.rate;
    this.ends.push(end);
    this.peaks.push(most);
    if (end - this.drawnAt < EVERY) return;
    this.drawnAt = end;
    desk.view.seconds = end;
    if (desk.view.whole) desk.view.fit();
    else desk.redraw();
  }

  /** What was found so far stands above it; it cannot be edited yet. */
  show(grid) {
    this.desk.grid = new Grid(grid);
    this.desk.redraw();
  }

  draw(context, height) {
    const { view } = this.desk;
    const middle = height / 2;
    context.fillStyle = INK.wave;
    let i = 0;
    for (let x = 0; x < view.width; x++) {
      const to = view.time(x + 1);
      let most = 0;
      for (; i < this.ends.length && this.ends[i] <= to; i++) most = Math.max(most, this.peaks[i]);
      if (!most && i < this.ends.length && i > 0) most = this.peaks[i]; // several pixels a stretch
      if (i >= this.ends.length && view.time(x) > (this.ends.at(-1) ?? 0)) break;
      const tall = Math.max(1, most * (middle - 12));
      context.fillRect(x, middle - tall, 1, 2 * tall);
    }
  }

  end() {
    this.desk.growing = null;
    this.desk.grid = null;
  }
}
