// @ts-check
// Walking through the take by keys: from beat to beat, bar to bar, attack to attack.

/** @typedef {Pick<import("./desk.js").Desk, "attacks" | "go" | "grid" | "player" | "select" | "selected">} Needs what this uses of the desk */

/** Where walking starts: at the chosen beat, or while it plays at the one that sounds. */
function here({ grid, selected, player }) {
  return selected !== null && !player.playing ? grid.place(selected) : grid.sounding(player.seconds);
}

/** @param {Needs} desk */
function choose(desk, place) {
  const { grid } = desk;
  const i = Math.min(grid.length - 1, Math.max(0, place));
  desk.select(grid.index(i));
  desk.go(grid.time[i]);
}

/** @param {Needs} desk */
export function stepBeat(desk, by) {
  if (desk.grid) choose(desk, here(desk) + by);
}

/** @param {Needs} desk */
export function stepBar(desk, by) {
  const { grid } = desk;
  if (!grid) return;
  let i = here(desk);
  do i += by;
  while (i > 0 && i < grid.length - 1 && grid.beat[i] !== 1);
  choose(desk, i);
}

/** @param {Needs} desk */
export function stepAttack(desk, by) {
  const at = desk.attacks.next(desk.player.seconds, by);
  if (at !== null) desk.go(at);
}
