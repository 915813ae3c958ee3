// @ts-check
// Peaks and samples from the server, in tiles, the least recently used forgotten first.

import { clocked } from "../studio/clock.js";

const MOST = 1500;

export class Tiles {
  constructor(facts, arrived) {
    this.facts = facts;
    this.arrived = arrived;
    this.kept = new Map();
    this.asked = new Set();
  }

  /** Samples a bin for a zoom of `spp` samples a device pixel; 0 means single samples. */
  level(spp) {
    let found = 0;
    for (const l of this.facts.levels) if (l <= spp * 1.001) found = l;
    return found;
  }

  /** Tile `n` of a track at `level`: Int16Array of pairs, or Float32Array of samples; undefined until it has come. */
  get(track, level, n) {
    const version = this.facts.tracks?.find((t) => t.id === track)?.version ?? "";
    const key = `${version}/${track}/${level}/${n}`;
    const kept = this.kept.get(key);
    if (kept) {
      this.kept.delete(key);
      this.kept.set(key, kept);
      return kept;
    }
    if (!this.asked.has(key)) this.#fetch(key, track, level, n, version);
    return undefined;
  }

  async #fetch(key, track, level, n, version) {
    this.asked.add(key);
    try {
      const url = level ? `/tracks/${track}/peaks/${level}/${n}` : `/tracks/${track}/samples/${n}`;
      const response = await fetch(clocked(url, version));
      if (!response.ok) throw new Error(String(response.status));
      const data = await response.arrayBuffer();
      this.kept.set(key, level ? new Int16Array(data) : new Float32Array(data));
      if (this.kept.size > MOST) this.kept.delete(this.kept.keys().next().value);
      this.asked.delete(key);
      this.arrived(track);
    } catch {
      setTimeout(() => this.asked.delete(key), 1000); // asked again when next drawn
    }
  }
}
