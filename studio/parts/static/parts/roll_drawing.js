// @ts-check
// The roll as a picture.

import { INK, SANS, fresh } from "../desk/palette.js";

export const HEAD = 22;
export const LEFT = 92; // room for the names of pitches
export const NAMES = ["C", "C♯", "D", "E♭", "E", "F", "F♯", "G", "A♭", "A", "B♭", "B"];
export const DRUMS = new Map([
  [49, "crash"],
  [51, "ride"],
  [46, "open hat"],
  [42, "hat"],
  [70, "shaker"],
  [48, "high tom"],
  [45, "low tom"],
  [39, "clap"],
  [37, "rim"],
  [38, "snare"],
  [36, "kick"],
]);

/**
 * Draw a roll: pitches as rows, the grid's columns, notes, what quantising would make of them, and the playhead.
 * @param {any} roll
 */
export function drawRoll(roll) {
  if (!roll.shown || !roll.data) return;
  const { context, width, height } = fresh(roll.canvas);
  const { data, row, pitches } = roll;
  context.fillStyle = INK.sheet;
  context.fillRect(0, 0, width, height);
  context.font = `500 13px ${SANS}`;
  context.textBaseline = "middle";
  pitches.forEach((pitch, i) => {
    const y = HEAD + i * row;
    if (!roll.rows && NAMES[((pitch % 12) + 12) % 12].length > 1) {
      context.fillStyle = INK.paper;
      context.fillRect(LEFT, y, width, row);
    }
    context.fillStyle = INK.rule;
    context.fillRect(0, y + row - 1, width, 1);
    const name = data.slices
      ? `beat ${pitch + 1}`
      : roll.rows
        ? DRUMS.get(pitch)
        : pitch % 12 === 0 || row > 20 || data.pitches.includes(pitch)
          ? `${NAMES[pitch % 12]}${Math.floor(pitch / 12) - 1}`
          : "";
    context.fillStyle = INK.faded;
    context.fillText(name, 10, y + row / 2);
  });
  for (const c of data.columns) {
    context.fillStyle = c.kind === "bar" ? INK.bar : c.kind === "beat" ? INK.faded : INK.rule;
    context.fillRect(Math.round(roll.x(c.q)), c.kind === "bar" ? 0 : HEAD, 1, height);
    if (c.kind !== "bar") continue;
    context.fillStyle = INK.ink;
    context.fillText(String(c.bar), roll.x(c.q) + 5, HEAD / 2);
  }
  if (roll.ghost) roll.ghost.forEach((n) => drawNote(roll, n, context, false, true));
  for (const n of data.notes) drawNote(roll, n, context, roll.chosen.has(n.i), false);
  drawPlayhead(roll, context, height);
}

function drawNote(roll, n, context, chosen, ghost) {
  const i = roll.rowOf(n.pitch);
  if (i < 0 || i >= roll.pitches.length) return;
  const y = HEAD + i * roll.row + 2;
  const x = roll.x(n.q);
  const wide = Math.max(6, n.length * roll.scale - 1);
  if (ghost) {
    context.strokeStyle = INK.bar;
    context.strokeRect(x + 0.5, y - 0.5, wide, roll.row - 3);
    return;
  }
  context.globalAlpha = 0.4 + (0.6 * n.velocity) / 127;
  context.fillStyle = chosen ? INK.pin : INK.wave;
  context.fillRect(Math.max(LEFT, x), y, wide - Math.max(0, LEFT - x), roll.row - 4);
  context.globalAlpha = 1;
  if (chosen) {
    context.strokeStyle = INK.ink;
    context.strokeRect(x + 0.5, y + 0.5, wide - 1, roll.row - 5);
  }
}

function drawPlayhead(roll, context, height) {
  const { seconds, columns, end } = roll.data;
  const now = roll.desk.player.seconds;
  const i = seconds.findLastIndex((s) => s <= now);
  if (i < 0 || i >= columns.length) return;
  const from = columns[i].q;
  const to = columns[i + 1]?.q ?? end;
  const x = roll.x(from + ((now - seconds[i]) / (seconds[i + 1] - seconds[i])) * (to - from));
  context.fillStyle = INK.ink;
  context.fillRect(Math.round(x), 0, 1.5, height);
}
