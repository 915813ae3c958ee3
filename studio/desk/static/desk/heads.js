// @ts-check
// The track heads beside the lanes: name, mute, solo, level. Changes go to the mixer at once and to the server.

import { post } from "../studio/outbox.js";
import { editable } from "./naming.js";

/** @typedef {Pick<import("./desk.js").Desk, "attacks" | "laneHeight" | "lanes" | "parts" | "player" | "redraw">} Needs what this uses of the desk */

/** @param {Needs} desk */
export function drawHeads(desk) {
  const box = document.getElementById("heads");
  box.replaceChildren(...desk.lanes.map((t) => head(desk, t)));
}

const address = (lane) => `/${lane.instrument ? "parts" : "tracks"}/${lane.id}`;

/** Where a lane sits between left and right; a double click brings it back to the middle. */
function panOf(desk, track) {
  const pan = Object.assign(document.createElement("input"), { type: "range", min: -1, max: 1, step: 0.05 });
  pan.className = "pan";
  pan.value = String(track.pan);
  pan.setAttribute("aria-label", `Pan of ${track.name}`);
  const words = () => {
    const percent = Math.round(100 * Math.abs(track.pan));
    pan.title = percent ? `${percent} % ${track.pan < 0 ? "left" : "right"}` : "Pan: in the middle";
    pan.setAttribute("aria-valuetext", pan.title);
  };
  const set = (value) => {
    track.pan = Number(value);
    words();
    desk.player.mix();
  };
  pan.oninput = () => set(pan.value);
  pan.onchange = () => post(address(track), { pan: track.pan });
  pan.ondblclick = () => {
    pan.value = "0";
    set(0);
    post(address(track), { pan: 0 });
  };
  words();
  return pan;
}

/** What a track is, as a small picture with its word.
 * @param {string} role */
export function roleIcon(role) {
  const icon = document.createElementNS("http://www.w3.org/2000/svg", "svg");
  icon.setAttribute("class", "role");
  icon.setAttribute("role", "img");
  icon.setAttribute("aria-label", role);
  const use = document.createElementNS("http://www.w3.org/2000/svg", "use");
  use.setAttribute("href", `${new URL("roles.svg", import.meta.url).pathname}#${role}`);
  icon.append(use);
  return icon;
}

/** @param {Needs} desk */
function head(desk, track) {
  const el = document.createElement("div");
  el.className = "trackhead" + (desk.laneHeight < 70 ? " low" : "");
  el.style.height = `${desk.laneHeight}px`;
  const name = document.createElement("button");
  const remarks = track.remarks ?? [track.rides ? "rides the bars" : "keeps the clock"];
  name.className = "plain name" + (track.remarks?.length ? " odd" : "") + (track.instrument ? " part" : "");
  name.textContent = track.name;
  if (track.role) name.prepend(roleIcon(track.role), " ");
  name.title = [track.name, ...(track.role ? [track.role] : []), ...remarks, "Press to rename"].join("\n");
  editable(
    name,
    () => track.name,
    (to) => post(address(track), { name: to }).then(() => document.body.dispatchEvent(new Event("tracks-changed"))),
  );
  const level = document.createElement("input");
  Object.assign(level, { type: "range", min: -40, max: 6, step: 0.5, value: track.gain, title: `${track.gain} dB` });
  level.setAttribute("aria-label", `Level of ${track.name}`);
  level.oninput = () => {
    track.gain = Number(level.value) <= -40 ? -120 : Number(level.value);
    level.title = `${level.value} dB`;
    desk.player.mix();
  };
  level.onchange = () => post(address(track), { gain: track.gain });
  el.append(name, flag(desk, track, "M", "muted", "Mute"), flag(desk, track, "S", "solo", "Solo"), level);
  el.append(panOf(desk, track));
  if (track.instrument) {
    const open = Object.assign(document.createElement("button"), {
      className: "key quiet",
      textContent: "Edit",
      title: "Open its notes in the roll",
    });
    open.onclick = () => desk.parts.roll.open(track.id);
    el.append(open);
    return el;
  }
  const ticks = document.createElement("input");
  Object.assign(ticks, {
    type: "range",
    min: 0,
    max: 1,
    step: 0.01,
    value: desk.attacks.sensitivity(track),
    className: "ticks",
    title: "How many attacks are marked",
  });
  ticks.setAttribute("aria-label", `Attack marks of ${track.name}`);
  ticks.oninput = () => desk.attacks.setSensitivity(track, ticks.value);
  el.append(ticks);
  return el;
}

/** @param {Needs} desk */
function flag(desk, track, letter, what, words) {
  const button = document.createElement("button");
  button.className = `flag ${what}`;
  button.textContent = letter;
  button.title = `${words} ${track.name}`;
  button.setAttribute("aria-label", `${words} ${track.name}`);
  button.setAttribute("aria-pressed", track[what]);
  button.onclick = () => {
    track[what] = !track[what];
    button.setAttribute("aria-pressed", track[what]);
    desk.player.mix();
    desk.redraw();
    post(address(track), { [what]: track[what] });
  };
  return button;
}
