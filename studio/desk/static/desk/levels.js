// @ts-check
// Levels, mutes and solos of lanes: as in core/following/levels.py, here because the sound has to follow at once.

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
