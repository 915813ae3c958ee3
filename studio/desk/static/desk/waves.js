// @ts-check
// Waveforms with their attack marks as bitmaps a strip of pixels wide, drawn once a zoom step and then only copied.

import { INK } from "./palette.js";

const STRIP = 256; // device pixels
const MOST = 900;
const SOFTEST = 1 / 32; // what is softer is not drawn at its full height: it may be noise

export class Waves {
  constructor(tiles, facts) {
    this.tiles = tiles;
    this.facts = facts;
    this.strips = new Map(); // key -> {picture, complete}
    this.chosen = 1; // how much higher than usual
  }

  /** What makes the loudest track as high as its lane: soft recordings are to be seen, too. */
  get fill() {
    const peak = Math.max(0, ...this.facts.tracks.map((t) => t.peak ?? 0));
    return peak > 0 ? 1 / Math.min(1, Math.max(SOFTEST, peak)) : 1;
  }

  get gain() {
    return this.fill * this.chosen;
  }

  heighten(by) {
    this.chosen = Math.min(32, Math.max(0.25, this.chosen * by));
  }

  forget(track) {
    for (const key of this.strips.keys()) {
      const strip = this.strips.get(key);
      if (strip.track === track && !strip.complete) this.strips.delete(key);
    }
  }

  /**
   * Draw a track between device pixels 0 and `width`, with its top at `top`.
   * `spp`: samples a device pixel; `first`: sample at the left edge; `budget`: what drawing may still take, `ms` for
   * what is seen and `ahead` for what comes next; `marks`: the attacks to mark, if any.
   * Returns whether all of it is there.
   */
  draw(context, track, { top, width, first, budget, ...how }) {
    const offset = Math.round(first / how.spp);
    const there = (n) => n >= 0 && n * STRIP * how.spp < track.frames;
    how.colour = how.muted ? INK.faint : INK.wave;
    how.key = `${track.version ?? ""}|${track.id}|${how.spp}|${how.height}|${how.gain}|${how.colour}|${how.marks?.key(track) ?? ""}|`;
    let whole = true;
    const from = Math.floor(offset / STRIP);
    let n = from;
    for (; n * STRIP < offset + width && there(n); n++) {
      const strip = this.#strip(track, n, how, budget, "ms");
      if (strip) context.drawImage(strip.picture, n * STRIP - offset, top);
      if (!strip?.complete) whole = false;
    }
    // the next ones on either side, a little in each frame, so that scrolling finds them ready
    for (const next of whole ? [n, from - 1] : []) if (there(next)) this.#strip(track, next, how, budget, "ahead");
    return whole;
  }

  #strip(track, n, how, budget, purse) {
    const key = how.key + n;
    const kept = this.strips.get(key);
    if (kept?.complete || (kept && budget[purse] <= 0)) {
      this.strips.delete(key);
      this.strips.set(key, kept);
      return kept;
    }
    if (!(budget[purse] > 0)) return undefined;
    const begun = performance.now();
    const canvas = new OffscreenCanvas(STRIP, how.height);
    const context = canvas.getContext("2d");
    context.fillStyle = context.strokeStyle = how.colour;
    const complete = this.tiles.level(how.spp)
      ? this.#peaks(context, track, n, how)
      : this.#samples(context, track, n, how);
    how.marks?.draw(
      context,
      track,
      (n * STRIP * how.spp) / this.facts.rate,
      how.spp / this.facts.rate,
      STRIP,
      how.height,
    );
    const strip = { picture: canvas.transferToImageBitmap(), complete, track: track.id };
    this.strips.set(key, strip);
    if (this.strips.size > MOST) this.strips.delete(this.strips.keys().next().value);
    budget[purse] -= performance.now() - begun;
    return strip;
  }

  #peaks(context, track, n, { spp, height, gain }) {
    const level = this.tiles.level(spp);
    const size = this.facts.tile;
    const middle = height / 2;
    const scale = (middle / 32767) * gain;
    let complete = true;
    let tile;
    let at = -1;
    for (let x = 0; x < STRIP; x++) {
      const from = Math.floor(((n * STRIP + x) * spp) / level);
      const to = Math.max(from + 1, Math.floor(((n * STRIP + x + 1) * spp) / level));
      let low = 32767;
      let high = -32767;
      for (let bin = from; bin < to; bin++) {
        const t = Math.floor(bin / size);
        if (t !== at) {
          if (t * size * level >= track.frames) break;
          tile = this.tiles.get(track.id, level, t);
          at = t;
        }
        if (!tile) {
          complete = false;
          break;
        }
        const i = 2 * (bin - t * size);
        if (i >= tile.length) break;
        if (tile[i] < low) low = tile[i];
        if (tile[i + 1] > high) high = tile[i + 1];
      }
      if (high < low) continue;
      const top = Math.max(0, middle - high * scale);
      const bottom = Math.min(height, middle - low * scale);
      context.fillRect(x, top, 1, Math.max(1, bottom - top));
    }
    return complete;
  }

  #samples(context, track, n, { spp, height, gain }) {
    const size = this.facts.tile;
    const middle = height / 2;
    const first = Math.floor(n * STRIP * spp) - 1;
    const last = Math.ceil((n + 1) * STRIP * spp) + 1;
    let complete = true;
    let open = false;
    const dots = spp < 1 / 6;
    context.lineWidth = Math.min(2, Math.max(1, 0.5 / spp / 6));
    context.beginPath();
    for (let s = Math.max(0, first); s <= last && s < track.frames; s++) {
      const t = Math.floor(s / size);
      const tile = this.tiles.get(track.id, 0, t);
      if (!tile) {
        complete = false;
        s = (t + 1) * size - 1;
        open = false;
        continue;
      }
      const x = s / spp - n * STRIP;
      const y = Math.min(height, Math.max(0, middle - tile[s - t * size] * middle * gain));
      if (open) context.lineTo(x, y);
      else context.moveTo(x, y);
      open = true;
      if (dots) context.rect(x - 2, y - 2, 4, 4);
    }
    context.stroke();
    return complete;
  }
}
