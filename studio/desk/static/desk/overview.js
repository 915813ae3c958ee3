// @ts-check
// The whole take above the desk. Its picture is drawn when something in it changes; what scrolls is only a frame on it.

import { drawDoubts } from "./drawing.js";
import { INK, fresh } from "./palette.js";

/** @typedef {Pick<import("./desk.js").Desk, "before" | "canvas" | "doubts" | "facts" | "grid" | "later" | "loop" | "marks" | "view" | "waves">} Needs what this uses of the desk */

export class Overview {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    /** @type {unknown[] | null} all that the picture shows, once it is complete */
    this.shows = null;
    /** @type {{key: string, canvas: OffscreenCanvas} | null} the waveforms, once they are complete */
    this.tracks = null;
  }

  draw() {
    const { view, facts, canvas, grid, marks, doubts, loop } = this.desk;
    const { overview } = canvas;
    const scale = overview.clientWidth / Math.max(facts.seconds, 1e-6);
    const seen = document.getElementById("seen");
    seen.style.transform = `translateX(${view.start * scale}px)`;
    seen.style.width = `${Math.max(3, (Math.min(view.end, facts.seconds) - view.start) * scale)}px`;
    // what changes is another object, or another number
    const size = [overview.clientWidth, overview.clientHeight, devicePixelRatio];
    const shows = [grid, marks.list, doubts.list, loop, this.tracks, facts.seconds, facts.tracks, INK.wave, ...size];
    if (this.shows?.every((x, i) => x === shows[i])) return;
    this.shows = null;
    const { key } = this.#picture(scale);
    // while its waveforms are still on their way it is drawn once more
    if (this.tracks?.key === key) this.shows = shows.with(4, this.tracks);
  }

  #picture(scale) {
    const { canvas, grid, marks, loop } = this.desk;
    const { context, width, height, ratio } = fresh(canvas.overview);
    const whole = this.#waveforms(Math.round(width * ratio), Math.round(height * ratio));
    context.drawImage(whole.canvas, 0, 0, width, height);
    if (grid) {
      context.fillStyle = INK.bar;
      const every = Math.max(1, Math.ceil(grid.bar[grid.length - 1] / (width / 60) / 8) * 8);
      for (let i = 0; i < grid.length; i++) {
        if (grid.beat[i] !== 1 || (grid.bar[i] - 1) % every) continue;
        context.fillRect(Math.round(grid.time[i] * scale), height - 6, 1, 6);
      }
    }
    marks.drawBands(context, (t) => t * scale, 0, 15, width);
    drawDoubts(context, this.desk, (t) => t * scale, height - 8, 10);
    if (loop) {
      context.fillStyle = INK.loop;
      context.fillRect(loop[0] * scale, 0, (loop[1] - loop[0]) * scale, height);
    }
    return whole;
  }

  /** All tracks over one another, each faint, so that dense places grow dark; kept as a picture once it is complete. */
  #waveforms(width, height) {
    const { facts, waves } = this.desk;
    const analysed = facts.tracks.filter((t) => t.analysed);
    const key = [width, height, facts.seconds, INK.wave, INK.shade, waves.fill, ...analysed.map((t) => t.id)].join();
    if (this.tracks?.key === key) return this.tracks;
    const canvas = new OffscreenCanvas(Math.max(1, width), Math.max(1, height));
    const context = canvas.getContext("2d");
    context.fillStyle = INK.shade;
    context.fillRect(0, 0, width, height);
    context.globalAlpha = Math.max(0.12, 0.7 / Math.max(1, analysed.length));
    const spp = (facts.seconds * facts.rate) / width;
    const how = { top: 0, height, width, spp, first: 0, gain: waves.fill, budget: { ms: 8 }, muted: false };
    let complete = true;
    for (const track of analysed) complete = waves.draw(context, track, how) && complete;
    if (complete) this.tracks = { key, canvas };
    else this.desk.later();
    return { key, canvas };
  }
}
