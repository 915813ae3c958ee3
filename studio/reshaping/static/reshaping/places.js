// @ts-check
// The same place in the music on another clock.

/** @typedef {{source_sec: number[], target_sec: number[]}} Clock anchors of recording and result, rising */

/**
 * Seconds of the result at seconds of the recording, or with `back` the other way; without a clock both are the same.
 * Beyond the anchors the recording keeps its own pace.
 * @param {Clock | null | undefined} clock
 * @param {number} seconds
 */
export function place(clock, seconds, back = false) {
  if (!clock) return seconds;
  const [a, b] = back ? [clock.target_sec, clock.source_sec] : [clock.source_sec, clock.target_sec];
  const last = a.length - 1;
  if (seconds <= a[0]) return b[0] + (seconds - a[0]);
  if (seconds >= a[last]) return b[last] + (seconds - a[last]);
  let [low, high] = [0, last];
  while (high - low > 1) {
    const middle = (low + high) >> 1;
    if (a[middle] <= seconds) low = middle;
    else high = middle;
  }
  return b[low] + ((seconds - a[low]) / (a[high] - a[low])) * (b[high] - b[low]);
}
