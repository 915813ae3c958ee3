// @ts-check
// Tick marks at the attacks of each track, as many as its sensitivity lets through; stepping from one to the next.

import { INK } from "./palette.js";
import { tryJson } from "../studio/server.js";

/** Attacks of several tracks within so many seconds are one hit. */
const ONE = 0.02;

export class AttackMarks {
  constructor(desk) {
    this.desk = desk;
    this.found = new Map(); // track -> {seconds, strength}
    this.asked = new Set();
    this.shares = new Map();
    this.shown = true;
  }

  /** How many of a track's attacks count, 0 none to 1 all; kept by the browser. */
  sensitivity(track) {
    if (!this.shares.has(track.id))
      this.shares.set(track.id, Number(localStorage.getItem(`ticks-${track.id}`) ?? 0.75));
    return this.shares.get(track.id);
  }

  setSensitivity(track, share) {
    this.shares.set(track.id, Number(share));
    localStorage.setItem(`ticks-${track.id}`, share);
    this.desk.redraw();
  }

  /** The least strength that counts on a track. */
  least(track) {
    return 1 - this.sensitivity(track);
  }

  of(track) {
    if (!this.found.has(track.id) && !this.asked.has(track.id) && track.analysed) {
      this.asked.add(track.id);
      tryJson(`/tracks/${track.id}/attacks`).then((data) => {
        if (data) this.found.set(track.id, data);
        else this.asked.delete(track.id);
        this.desk.redraw();
      });
    }
    return this.found.get(track.id);
  }

  /** What a picture with a track's marks depends on. */
  key(track) {
    return this.shown && this.of(track) ? this.least(track) : "";
  }

  /** Marks along the bottom of a picture that begins at `start` seconds, `perPixel` seconds a device pixel. */
  draw(context, track, start, perPixel, width, height) {
    const data = this.shown && this.of(track);
    if (!data) return;
    const least = this.least(track);
    const ratio = devicePixelRatio || 1;
    const wide = Math.round((perPixel * ratio < 0.006 ? 2 : 1) * ratio);
    let last = NaN; // one tick a pixel is enough
    context.fillStyle = INK.pin;
    for (let i = below(data.seconds, start - 2 * perPixel); i < data.seconds.length; i++) {
      const x = Math.round((data.seconds[i] - start) / perPixel);
      if (x >= width) break;
      if (data.strength[i] < least || x === last) continue;
      last = x;
      const tall = Math.round((4 + 5 * data.strength[i]) * ratio);
      context.fillRect(x, height - tall, wide, tall);
    }
  }

  /**
   * The next (+1) or previous (-1) hit from `seconds`, on the chosen tracks or, with none chosen, on all. Attacks of
   * several tracks within 20 ms are one hit, at the strongest of them: what spills into other microphones is none.
   */
  next(seconds, by) {
    const { tracks } = this.desk.facts;
    const solo = tracks.filter((t) => t.solo && t.analysed);
    const heard = (solo.length ? solo : tracks).filter((t) => this.of(t) && !this.desk.isSilenced(t));
    let from = seconds;
    for (;;) {
      const firsts = heard.map((t) => this.nextOn(t, from, by)).filter((t) => t !== undefined);
      if (!firsts.length) return null;
      const first = by > 0 ? Math.min(...firsts) : Math.max(...firsts);
      const hit = this.#strongest(heard, first);
      if (by * (hit - seconds) > ONE) return hit;
      if (by * (hit - seconds) > 0.0005 && hit === first) return hit;
      from = first; // a weaker attack of the hit at which we stand
    }
  }

  /** The time of the strongest attack within 20 ms of one. */
  #strongest(tracks, at) {
    let [best, most] = [at, 0];
    for (const track of tracks) {
      const { seconds, strength } = this.of(track);
      for (let i = below(seconds, at - ONE); i < seconds.length && seconds[i] <= at + ONE; i++)
        if (strength[i] > most) [best, most] = [seconds[i], strength[i]];
    }
    return best;
  }

  /** The attack of any track nearest to a time, within so many seconds; undefined where there is none. */
  nearest(seconds, within) {
    const near = this.desk.facts.tracks
      .filter((t) => this.of(t))
      .flatMap((t) => [1, -1].map((by) => this.nextOn(t, seconds, by)))
      .filter((t) => t !== undefined && Math.abs(t - seconds) <= within);
    return near.sort((a, b) => Math.abs(a - seconds) - Math.abs(b - seconds))[0];
  }

  nextOn(track, seconds, by) {
    const data = this.of(track);
    const least = this.least(track);
    let i = by > 0 ? below(data.seconds, seconds + 0.0005) : below(data.seconds, seconds - 0.0005) - 1;
    while (i >= 0 && i < data.seconds.length && data.strength[i] < least) i += by;
    return data.seconds[i];
  }
}

/** Place of the first value not below `limit`. */
function below(sorted, limit) {
  let low = 0;
  let high = sorted.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (sorted[middle] < limit) low = middle + 1;
    else high = middle;
  }
  return low;
}
