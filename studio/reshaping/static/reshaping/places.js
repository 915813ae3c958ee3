// @ts-check
// The same place in the music on another clock.

/**
 * Seconds on the clock of `to` at which the music stands where it stands at `seconds` on the clock of `from`. Both have
 * the same beats; before the first and after the last one the clocks run at one pace.
 * @param {{time: number[]} | null} from
 * @param {{time: number[]} | null} to
 * @param {number} seconds
 */
export function samePlace(from, to, seconds) {
  const [a, b] = [from?.time ?? [], to?.time ?? []];
  const last = Math.min(a.length, b.length) - 1;
  if (last < 0) return seconds;
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
