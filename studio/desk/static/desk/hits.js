// @ts-check
// Hits: attacks of several tracks within 20 ms are one, at the strongest of them, so that what spills into other
// microphones is none.

/** @typedef {{seconds: number[], strength: number[], least: number}} Attacks of one track; weaker ones do not count */

const ONE = 0.02; // seconds
const SAME = 0.0005;

/**
 * The next (+1) or previous (-1) attack of one track from a time.
 * @param {Attacks} track
 * @param {number} seconds
 * @param {number} by
 * @returns {number | undefined}
 */
export function nextAttack({ seconds: times, strength, least }, seconds, by) {
  let i = by > 0 ? below(times, seconds + SAME) : below(times, seconds - SAME) - 1;
  while (i >= 0 && i < times.length && strength[i] < least) i += by;
  return times[i];
}

/**
 * The next (+1) or previous (-1) hit from a time; null where there is none.
 * @param {Attacks[]} tracks
 * @param {number} seconds
 * @param {number} by
 */
export function nextHit(tracks, seconds, by) {
  let from = seconds;
  for (;;) {
    const firsts = tracks.map((t) => nextAttack(t, from, by)).filter((t) => t !== undefined);
    if (!firsts.length) return null;
    const first = by > 0 ? Math.min(...firsts) : Math.max(...firsts);
    const hit = strongest(tracks, first);
    if (by * (hit - seconds) > ONE || (hit === first && by * (hit - seconds) > SAME)) return hit;
    from = first; // a weaker attack of the hit at which we stand
  }
}

/** The time of the strongest attack within 20 ms of one. */
function strongest(tracks, at) {
  let [best, most] = [at, 0];
  for (const { seconds, strength } of tracks)
    for (let i = below(seconds, at - ONE); i < seconds.length && seconds[i] <= at + ONE; i++)
      if (strength[i] > most) [best, most] = [seconds[i], strength[i]];
  return best;
}

/**
 * The attack of any track nearest to a time, within so many seconds; undefined where there is none.
 * @param {Attacks[]} tracks
 * @param {number} seconds
 * @param {number} within
 */
export function nearestAttack(tracks, seconds, within) {
  const near = tracks
    .flatMap((t) => [1, -1].map((by) => nextAttack(t, seconds - by * 2 * SAME, by)))
    .filter((t) => t !== undefined && Math.abs(t - seconds) <= within);
  return near.sort((a, b) => Math.abs(a - seconds) - Math.abs(b - seconds))[0];
}

/** Place of the first of rising values that is not below `limit`. */
export function below(rising, limit) {
  let low = 0;
  let high = rising.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (rising[middle] < limit) low = middle + 1;
    else high = middle;
  }
  return low;
}
