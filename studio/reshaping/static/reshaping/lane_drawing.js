// @ts-check
// What is wanted of the playing, drawn over a track's lane on the recording's clock.

import { INK, SANS } from "../desk/palette.js";

/** @typedef {import("./reshaping.js").Reshaping} Reshaping */
/** @typedef {CanvasRenderingContext2D} Context */

/**
 * Fences, an arrow from each attack to where it goes, what is hushed, and behind it the leading track's attacks.
 * @param {Context} context
 * @param {Reshaping} reshaping
 */
export function drawWanted(context, reshaping, track, top, height) {
  drawLeader(context, reshaping, track, top, height);
  drawTightenings(context, reshaping, track, top, height);
  drawMoves(context, reshaping, track, top, height);
  drawHushes(context, reshaping, track, top, height);
}

/**
 * Behind a ticked player, while another is chosen as target: that one's attacks, strong ones darker.
 * @param {Context} context
 * @param {Reshaping} reshaping
 */
function drawLeader(context, reshaping, track, top, height) {
  const { panels, view, facts, attacks } = reshaping.desk;
  if (panels.stage !== "reshape" || panels.pane !== "tighten") return;
  if (!reshaping.chosenTracks().includes(track.id)) return;
  const toward = /** @type {HTMLSelectElement | null} */ (document.getElementById("tighten-toward"))?.value;
  const leader = facts.tracks.find((t) => t.id === Number(toward) && t !== track);
  const found = leader && attacks.of(leader);
  if (!found) return;
  const least = attacks.least(leader);
  context.fillStyle = INK.pin;
  found.seconds.forEach((at, i) => {
    if (found.strength[i] < least || at < view.start || at > view.end) return;
    context.globalAlpha = 0.2 + 0.5 * found.strength[i];
    context.fillRect(Math.round(view.x(at)), top + 2, 2, height - 4);
  });
  context.globalAlpha = 1;
}

function drawTightenings(context, { state, desk }, track, top, height) {
  const { view } = desk;
  for (const t of state.tightenings.filter((one) => one.tracks.includes(track.id))) {
    context.fillStyle = INK.pin;
    for (const fence of t.fences)
      for (let y = top; y < top + height - 2; y += 7) context.fillRect(Math.round(view.x(fence)), y, 1, 4);
    t.attacks.forEach((at, i) => {
      if (t.moved[i] && at > view.start - 1 && at < view.end + 1) arrow(context, view, at, t.targets[i], top + height);
    });
  }
}

/** Attacks that are moved alone, with their fences, and the one that is being dragged. */
function drawMoves(context, { state, desk, dragging }, track, top, height) {
  const { view } = desk;
  const { held } = dragging;
  for (const m of state.moves.filter((one) => one.tracks.includes(track.id))) {
    for (const [k, fence] of m.fences.entries()) {
      const isHeld = held?.key === m.key && (held.side === "after") === (k === 1);
      context.fillStyle = INK.pin;
      for (let y = top + height - 26; y < top + height - 2; y += 5)
        context.fillRect(Math.round(view.x(isHeld ? held.to : fence)), y, 2, 3);
    }
    arrow(context, view, m.from, m.to, top + height);
  }
  if (!held || held.side || held.track !== track.id) return;
  context.fillStyle = INK.bar;
  context.fillRect(Math.round(view.x(held.to)), top, 1, height - 2);
  arrow(context, view, held.from, held.to, top + height);
  const ms = `${held.to < held.from ? "−" : "+"}${Math.abs(1000 * (held.to - held.from)).toFixed(0)} ms`;
  context.font = `500 13px ${SANS}`;
  context.textBaseline = "alphabetic";
  context.fillText(ms, view.x(held.to) + 5, top + 14);
}

function drawHushes(context, { state, desk }, track, top, height) {
  const { view } = desk;
  for (const h of state.hushes.filter((one) => one.track === track.id)) {
    const [x, end] = [view.x(h.start), view.x(h.end)];
    context.fillStyle = INK.sheet;
    context.globalAlpha = 0.75;
    context.fillRect(x, top + 1, end - x, height - 2);
    context.globalAlpha = 1;
    context.font = `500 13px ${SANS}`;
    context.textBaseline = "alphabetic";
    context.fillStyle = INK.faded;
    if (end - x > 60) context.fillText("hushed", Math.max(4, x + 4), top + 14);
  }
}

function arrow(context, view, from, to, bottom) {
  const [a, b] = [view.x(from), view.x(to)];
  const y = bottom - 14;
  context.fillStyle = INK.bar;
  context.fillRect(Math.round(a), y - 4, 1, 9);
  context.fillRect(Math.min(a, b), y, Math.max(1, Math.abs(b - a)), 2);
  const way = Math.sign(b - a);
  context.beginPath();
  context.moveTo(b + 2 * way, y + 1);
  context.lineTo(b - 4 * way, y - 3);
  context.lineTo(b - 4 * way, y + 5);
  context.fill();
}
