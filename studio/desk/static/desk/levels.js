// @ts-check
// Levels, mutes, solos and pans of lanes: as in core/following/levels.py, here because the sound has to follow at once.

/**
 * Whether a lane is silent among others.
 * @param {{muted: boolean, solo: boolean}} lane
 * @param {{solo: boolean}[]} lanes
 */
export function isSilenced(lane, lanes) {
  return lane.muted || (!lane.solo && lanes.some((l) => l.solo));
}

/**
 * What the samples of each lane are multiplied by.
 * @param {{gain: number, muted: boolean, solo: boolean}[]} lanes
 */
export function factors(lanes) {
  return lanes.map((lane) => (isSilenced(lane, lanes) ? 0 : 10 ** (lane.gain / 20)));
}

/**
 * What is left of a lane on either side: the nearer one keeps its level.
 * @param {number} pan -1 left to 1 right
 */
export const sides = (pan) => [Math.min(1, 1 - pan), Math.min(1, 1 + pan)];

/**
 * What the samples of each lane are multiplied by on the left and on the right.
 * @param {{gain: number, muted: boolean, solo: boolean, pan?: number}[]} lanes
 */
export const stereoFactors = (lanes) => factors(lanes).map((f, i) => sides(lanes[i].pan ?? 0).map((s) => f * s));
