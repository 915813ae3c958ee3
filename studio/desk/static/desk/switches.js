// @ts-check
// Switches of the player: click, ears, slow playback, count-in, following.

import { note, send } from "../studio/server.js";

const byId = (id) => document.getElementById(id);

export function toggleClick(desk) {
  const on = desk.player.clickLevel === 0;
  desk.player.setClick(on ? desk.clickLevel : 0);
  byId("click").setAttribute("aria-pressed", on);
}

export async function setClickStyle(desk) {
  const [sound, figure] = [byId("click-sound").value, byId("click-figure").value];
  const { ok, data } = await send(`/sessions/${desk.facts.id}/click-style`, { sound, figure });
  if (!ok) return note(data.error, true);
  return desk.player.refreshClick();
}

export function toggleEars(desk) {
  desk.player.setEars(!desk.player.ears);
  note(desk.player.ears ? "Click in the left ear, tracks in the right." : "Click and tracks in both ears.");
}

export function cyclePace(desk) {
  const paces = [1, 0.75, 0.5, 0.25];
  const pace = paces[(paces.indexOf(desk.player.pace) + 1) % paces.length];
  desk.player.setPace(pace);
  byId("pace").textContent = `${100 * pace} %`;
  byId("pace").setAttribute("aria-pressed", pace !== 1);
}

export function setLead(desk, bars) {
  desk.player.bars = bars;
  byId("lead-in").setAttribute("aria-pressed", bars > 0);
  const choice = document.querySelector("[data-lead]");
  if (choice) choice.value = String(bars);
}

export function toggleFollow(desk) {
  desk.follows = !desk.follows;
  byId("follow").setAttribute("aria-pressed", desk.follows);
}
