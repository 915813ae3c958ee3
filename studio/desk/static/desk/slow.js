// @ts-check
// Slow playback with pitch kept: overlapping grains of the mix, each shifted to where it continues the last one best
// (waveform similarity overlap-add, Verhelst and Roelands 1993). Attacks are not stretched: each sounds once, when time
// comes to it, and what lies between two is made longer instead (Grofit and Lavner 2008).

import { below } from "./hits.js";

const HOP = 1024; // samples of a grain of slow playback
const SEEK = 480; // how far a grain may be shifted to fit
const LEAD = 96; // samples before an attack that stay with it, as an attack is heard a little late
const EDGE = 64; // samples in which what sounded fades into an attack
const GUARD = 480; // samples after an attack that sound once only

/**
 * @typedef {{left: Float32Array, right: Float32Array}} Sound
 * @typedef {Sound & {from: number, hop: number, at: number}} Grain what it sounds like, from which sample of the take it
 *   was taken, how long it sounds, and how much of it has sounded
 */

/**
 * The grain that follows `last`; null where a block is missing.
 * @param {Grain | null} last
 * @param {number} at the sample that is due
 * @param {number} owed fractions of a sample by which time is ahead of it
 * @param {number} speed
 * @param {number[]} starts where attacks start, in samples, rising
 * @param {(from: number, count: number) => Sound | null} read the mix of a stretch
 * @returns {Grain | null}
 */
export function nextGrain(last, at, owed, speed, starts, read) {
  const now = at + owed + LEAD * speed; // attacks up to here have begun, with what leads to them
  const place = below(starts, now + 1e-6);
  const before = starts[place - 1] ?? -Infinity;
  const after = starts[place] ?? Infinity;
  const struck = now - before < Math.max(1, speed); // time has just come to it
  // a grain ends where the next attack begins, and none takes from beyond it
  let hop = Math.min(HOP, Math.max(1, Math.ceil((after - now) / speed)));
  const low = Math.max(0, struck ? before - LEAD : before + GUARD);
  hop = Math.min(hop, Math.max(EDGE, after - LEAD - EDGE - low));
  const high = Math.max(low, after - LEAD - EDGE - hop);
  const old = last && rest(last, struck ? EDGE : hop, starts, read);
  const from = struck ? low : similar(old, at, low, high, hop, read);
  const fresh = from === null ? null : read(from, hop);
  if (!fresh || from === null) return null;
  const fade = Math.min(old?.left.length ?? 0, hop);
  for (let i = 0; old && i < fade; i++) {
    const rise = 0.5 - 0.5 * Math.cos((Math.PI * (i + 0.5)) / fade);
    fresh.left[i] = rise * fresh.left[i] + (1 - rise) * old.left[i];
    fresh.right[i] = rise * fresh.right[i] + (1 - rise) * old.right[i];
  }
  return { ...fresh, from, hop, at: 0 };
}

/** How a grain goes on behind its end, for at most `count` samples and not into the next attack. */
function rest(grain, count, starts, read) {
  const from = grain.from + grain.at;
  const attack = starts[below(starts, from + LEAD)] ?? Infinity;
  return read(from, Math.max(0, Math.min(count, attack - LEAD - from)));
}

/** Where around now, from `low` to `high`, the mix continues `old` best; null where a block is missing. */
function similar(old, at, low, high, hop, read) {
  const nearest = Math.min(high, Math.max(low, at));
  const count = Math.min(hop, old?.left.length ?? 0);
  if (count < 2 * EDGE) return nearest;
  const [first, last] = [Math.max(low, nearest - SEEK), Math.min(high, nearest + SEEK)];
  const source = read(first, last - first + count);
  if (!source) return null;
  let best = nearest;
  let most = -Infinity;
  for (let shift = 0; shift <= last - first; shift += 4) {
    let sum = 0;
    let power = 1e-9;
    for (let i = 0; i < count; i += 8) {
      const x = source.left[shift + i] + source.right[shift + i];
      sum += x * (old.left[i] + old.right[i]);
      power += x * x;
    }
    const score = sum / Math.sqrt(power);
    if (score > most) [most, best] = [score, first + shift];
  }
  return best;
}
