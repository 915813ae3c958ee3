// @ts-check
// What plays round and round is also the chosen stretch: a bar, two, or as many as keys add.

/** @typedef {Pick<import("./desk.js").Desk, "grid" | "loop" | "player" | "setLoop">} Needs what this uses of the desk */

/**
 * This bar in a loop, or none.
 * @param {Needs} desk
 */
export function toggleLoop(desk) {
  if (desk.loop) return desk.setLoop(null);
  return desk.grid && loopBars(desk, barNow(desk));
}

/**
 * This bar and the next in a loop.
 * @param {Needs} desk
 */
export function loopTwo(desk) {
  return desk.grid && loopBars(desk, barNow(desk), 2);
}

/**
 * The stretch a bar longer (+1) or shorter (-1) at its end; without one it begins with this bar.
 * @param {Needs} desk
 */
export function stretchBy(desk, by) {
  const { grid, loop } = desk;
  if (!grid) return undefined;
  if (!loop) return by > 0 ? loopBars(desk, barNow(desk)) : undefined;
  const from = grid.nearest(loop[0]);
  const last = Math.max(from, grid.sounding(loop[1] - 1e-3)); // the last beat inside
  const [start, end] = grid.bar_around(last);
  const to = by > 0 ? grid.bar_around(Math.min(end, grid.length - 1))[1] : start;
  return to > from ? desk.setLoop([loop[0], lineAt(grid, to)]) : undefined;
}

/**
 * `count` bars from a bar's number on in a loop.
 * @param {Needs} desk
 */
export function loopBars(desk, bar, count = 1) {
  const { grid } = desk;
  const from = grid.bar.indexOf(bar);
  if (from < 0) return desk.setLoop(null);
  let to = from;
  for (let n = 0; n < count && to < grid.length; n++) [, to] = grid.bar_around(to);
  return desk.setLoop([grid.time[from], lineAt(grid, to)], count === 1 ? bar : undefined);
}

/** @param {Needs} desk */
const barNow = (desk) => desk.grid.bar[Math.max(0, desk.grid.sounding(desk.player.seconds))];
const lineAt = (grid, place) => (place < grid.length ? grid.time[place] : grid.end(place - 1));
