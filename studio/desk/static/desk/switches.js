// @ts-check
// Switches of the player: click, ears, slow playback, count-in, following.

import { note, send } from "../studio/server.js";

/** @typedef {Pick<import("./desk.js").Desk, "clickLevel" | "facts" | "follows" | "player">} Needs what this uses of the desk */

const byId = (id) => document.getElementById(id);

/** @param {Needs} desk */
export function toggleClick(desk) {
  const on = desk.player.clickLevel === 0;
  desk.player.setClick(on ? desk.clickLevel : 0);
  byId("click").setAttribute("aria-pressed", on);
}

/** @param {Needs} desk */
export async function setClickStyle(desk) {
  const [sound, figure] = [byId("click-sound").value, byId("click-figure").value];
  const { ok, data } = await send(`/sessions/${desk.facts.id}/click-style`, { sound, figure });
  if (!ok) return note(data.error, true);
  return desk.player.refreshClick();
}

/** @param {Needs} desk */
export function toggleEars(desk) {
  desk.player.setEars(!desk.player.ears);
  note(desk.player.ears ? "Click in the left ear, tracks in the right." : "Click and tracks in both ears.");
}

/**
 * Both sides in the middle, or as they are; the key that says so is there while it is on.
 * @param {Needs} desk
 */
export function toggleMono(desk) {
  desk.player.setMono(!desk.player.mono);
  byId("mono").hidden = !desk.player.mono;
  note(desk.player.mono ? "In mono: what cancels out is gone." : "In stereo again.");
}

export const SLOWEST = 0.5;

/**
 * A step slower or faster; from the slowest on slower is full speed again.
 * @param {Needs} desk
 */
export function stepPace(desk, by) {
  const next = Math.round(100 * (desk.player.pace + by)) / 100;
  setPace(desk, next < SLOWEST ? 1 : Math.min(1, next));
}

/** @param {Needs} desk */
export function setPace(desk, pace) {
  desk.player.setPace(pace);
  byId("pace").value = String(Math.round(100 * pace));
}

/** @param {Needs} desk */
export function setLead(desk, bars) {
  desk.player.bars = bars;
  byId("lead-in").setAttribute("aria-pressed", bars > 0);
  const choice = document.querySelector("[data-lead]");
  if (choice) choice.value = String(bars);
}

/** @param {Needs} desk */
export function toggleFollow(desk) {
  desk.follows = !desk.follows;
  byId("keep-in-view").setAttribute("aria-pressed", desk.follows);
}
