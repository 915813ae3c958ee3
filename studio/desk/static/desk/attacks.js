// @ts-check
// Tick marks at the attacks of each track, as many as its sensitivity lets through; stepping from one to the next.

import { below, nearestAttack, nextAttack, nextHit } from "./hits.js";
import { INK } from "./palette.js";
import { tryJson } from "../studio/server.js";

/** @typedef {Pick<import("./desk.js").Desk, "facts" | "isSilenced" | "redraw">} Needs what this uses of the desk */

export class AttackMarks {
  /** @param {Needs} desk */
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
    const key = `${track.version}/${track.id}`;
    if (!this.found.has(key) && !this.asked.has(key) && track.analysed) {
      this.asked.add(key);
      tryJson(`/tracks/${track.id}/attacks`, track.version).then((data) => {
        if (data) this.found.set(key, data);
        else this.asked.delete(key);
        this.desk.redraw();
      });
    }
    return this.found.get(key);
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

  /** A track's attacks as hits are looked for among them. */
  #counting(track) {
    const { seconds, strength } = this.of(track);
    return { seconds, strength, least: this.least(track) };
  }

  /** The next (+1) or previous (-1) hit from `seconds`, on the chosen tracks or, with none chosen, on all. */
  next(seconds, by) {
    const { tracks } = this.desk.facts;
    const solo = tracks.filter((t) => t.solo && t.analysed);
    const heard = (solo.length ? solo : tracks).filter((t) => this.of(t) && !this.desk.isSilenced(t));
    return nextHit(
      heard.map((t) => this.#counting(t)),
      seconds,
      by,
    );
  }

  /** The attack of any track nearest to a time, within so many seconds; undefined where there is none. */
  nearest(seconds, within) {
    const known = this.desk.facts.tracks.filter((t) => this.of(t));
    return nearestAttack(
      known.map((t) => this.#counting(t)),
      seconds,
      within,
    );
  }

  nextOn(track, seconds, by) {
    return nextAttack(this.#counting(track), seconds, by);
  }
}
