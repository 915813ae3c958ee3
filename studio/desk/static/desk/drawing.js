// @ts-check
// The desk's canvases: tempo contour, ruler, lanes. Each function draws one from the desk's state.

import { INK, SANS, SERIF, fresh } from "./palette.js";

/** @typedef {Pick<import("./desk.js").Desk, "attacks" | "before" | "canvas" | "compare" | "contourScale" | "doubts" | "grid" | "gridStrength" | "growing" | "hover" | "hoverEnd" | "isSilenced" | "laneHeight" | "lanes" | "later" | "loop" | "marks" | "parts" | "reshaping" | "scroller" | "selected" | "tapping" | "tempo" | "view" | "waves">} Needs what this uses of the desk */

export const STRIP = 17; // pixels of time above the bars in the ruler
export const TAB = 26; // width of the handles at the ends of the mapped music

const crisp = (x) => Math.round(x) + 0.5;

/**
 * Grid lines: whole pixels as filled boxes, which are drawn far quicker than strokes.
 * @param {Needs} desk
 */
function verticals(context, desk, top, bottom) {
  const { view, grid } = desk;
  if (!grid) return;
  const strength = desk.gridStrength;
  const bars = [];
  context.fillStyle = INK.ink;
  context.globalAlpha = Math.min(1, 0.26 * strength);
  grid.lines(view, (i, x, isBar) => {
    if (isBar) bars.push(x);
    else context.fillRect(Math.round(x), top, 1, bottom - top);
  });
  context.fillStyle = INK.bar;
  context.globalAlpha = Math.min(1, 0.75 * strength);
  for (const x of bars) context.fillRect(Math.round(x), top, 1, bottom - top);
  context.globalAlpha = 1;
}

/** @param {Needs} desk */
function shadeLoop(context, desk, height) {
  const { loop, view } = desk;
  if (!loop) return;
  context.fillStyle = INK.loop;
  context.fillRect(view.x(loop[0]), 0, (loop[1] - loop[0]) / view.perPixel, height);
}

/**
 * What an edit in preview changes is tinted: from the first to the last beat that would stand or count elsewhere.
 * @param {Needs} desk
 */
function shadeChange(context, desk, height) {
  const { before, grid, view } = desk;
  if (!before || !grid) return;
  const same = (i, j) => Math.abs(before.time[i] - grid.time[j]) < 1e-7 && before.beat[i] === grid.beat[j];
  const shorter = Math.min(before.length, grid.length);
  let ahead = 0;
  while (ahead < shorter && same(ahead, ahead)) ahead++;
  let behind = 0;
  while (behind < shorter - ahead && same(before.length - 1 - behind, grid.length - 1 - behind)) behind++;
  if (ahead === grid.length && ahead === before.length) return;
  const from = Math.min(...[before, grid].map((g) => g.time[Math.max(0, Math.min(ahead, g.length) - 1)]));
  const to = Math.max(...[before, grid].map((g) => g.time[Math.min(g.length - 1, g.length - behind)]));
  context.fillStyle = INK.changed;
  context.fillRect(view.x(from), 0, (to - from) / view.perPixel, height);
}

/** A dot of whole pixels, round enough at its size and far quicker than an arc. */
function dot(context, x, y, large) {
  const [cx, cy] = [Math.round(x), Math.round(y)];
  const r = large ? 2 : 1;
  context.fillRect(cx - r, cy - r + 1, 2 * r + 1, 2 * r - 1);
  context.fillRect(cx - r + 1, cy - r, 2 * r - 1, 2 * r + 1);
}

const NICE = [0.5, 1, 2, 5, 10, 20, 50];

/** @param {Needs} desk */
export function drawContour(desk) {
  const { context, width, height } = fresh(desk.canvas.contour);
  const { view, grid } = desk;
  context.fillStyle = INK.sheet;
  context.fillRect(0, 0, width, height);
  shadeLoop(context, desk, height);
  shadeChange(context, desk, height);
  if (!grid || grid.length < 2) return;
  const [low, high] = (desk.before ?? grid).usualTempos;
  const top = 8;
  const bottom = height - 8;
  const y = (bpm) => bottom - ((Math.min(high, Math.max(low, bpm)) - low) / (high - low)) * (bottom - top);
  if (!desk.before) desk.contourScale = { y, bpm: (at) => low + ((bottom - at) / (bottom - top)) * (high - low) };
  const step = NICE.find((n) => ((bottom - top) * n) / (high - low) >= 22) ?? 100;
  context.font = `500 13px ${SANS}`;
  context.textBaseline = "middle";
  context.lineWidth = 1;
  const scaleLabels = [];
  for (let b = Math.ceil(low / step) * step; b <= high; b += step) {
    context.strokeStyle = INK.rule;
    context.beginPath();
    context.moveTo(0, crisp(y(b)));
    context.lineTo(width, crisp(y(b)));
    context.stroke();
    scaleLabels.push([b, y(b)]);
  }
  verticals(context, desk, 0, height);
  if (!desk.before) desk.tempo.draw(context, y);
  // the kept tempo as steps, each beat a dot
  const first = Math.max(0, grid.at(view.start) - 2);
  const last = Math.min(grid.length, grid.at(view.end) + 2);
  context.strokeStyle = INK.wave;
  context.lineWidth = 1; // hairlines are drawn several times as fast
  context.beginPath();
  for (let i = first; i < last; i++) {
    const middle = view.x((grid.time[i] + grid.end(i)) / 2);
    if (i === first) context.moveTo(middle, y(grid.bpm[i]));
    else context.lineTo(middle, y(grid.bpm[i]));
  }
  context.stroke();
  const large = view.width > 10 * (last - first);
  for (let i = first; i < last; i++) {
    const middle = view.x((grid.time[i] + grid.end(i)) / 2);
    if (grid.bpm[i] >= low && grid.bpm[i] <= high) {
      context.fillStyle = grid.isPinned(i) ? INK.pin : INK.ink;
      dot(context, middle, y(grid.bpm[i]), large);
      continue;
    }
    // off the scale: a triangle pointing where it goes
    const d = grid.bpm[i] < low ? 1 : -1;
    const at = d > 0 ? bottom : top;
    context.fillStyle = INK.bar;
    context.beginPath();
    context.moveTo(middle, at + 4 * d);
    context.lineTo(middle - 4, at - 3 * d);
    context.lineTo(middle + 4, at - 3 * d);
    context.fill();
  }
  drawDoubts(context, desk, (t) => view.x(t), height - 9, 9);
  showScale(scaleLabels);
  desk.compare.draw(context, width, height);
}

/** The tempos beside the contour. */
function showScale(labels) {
  const box = document.getElementById("scale");
  const key = JSON.stringify(labels);
  if (box.dataset.key === key) return;
  box.dataset.key = key;
  for (const el of [...box.querySelectorAll("span:not(.name)")]) el.remove();
  for (const [bpm, y] of labels) {
    const el = document.createElement("span");
    el.textContent = String(Math.round(bpm * 10) / 10);
    el.style.top = `${y}px`;
    box.append(el);
  }
}

/**
 * Doubts as diamonds on a line, larger the graver.
 * @param {Pick<Needs, "doubts">} desk
 */
export function drawDoubts(context, desk, x, y, size) {
  for (const d of desk.doubts.list) {
    const at = x((d.start + d.end) / 2 > d.start + 4 ? d.start : (d.start + d.end) / 2);
    const r = (size / 2) * (0.5 + d.severity / 6);
    context.fillStyle = INK.bar;
    context.beginPath();
    context.moveTo(at, y - r);
    context.lineTo(at + r, y);
    context.lineTo(at, y + r);
    context.lineTo(at - r, y);
    context.fill();
  }
}

/** @param {Needs} desk */
export function drawRuler(desk) {
  const { context, width, height } = fresh(desk.canvas.ruler);
  const { view, grid } = desk;
  context.fillStyle = INK.paper;
  context.fillRect(0, 0, width, height);
  shadeLoop(context, desk, height);
  shadeChange(context, desk, height);
  // seconds along the top
  const steps = [
    0.0001, 0.0002, 0.0005, 0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300,
    600,
  ];
  const step = steps.find((s) => s / view.perPixel >= 78) ?? 1200;
  context.font = `400 13px ${SANS}`;
  context.textBaseline = "alphabetic";
  context.fillStyle = INK.faded;
  for (let n = Math.floor(view.start / step); n * step <= view.end; n++) {
    const x = view.x(n * step);
    context.fillRect(Math.round(x), 0, 1, 5);
    context.fillText(clock(n * step, step), x + 4, 12);
  }
  context.fillStyle = INK.rule;
  context.fillRect(0, STRIP, width, 1);
  desk.marks.drawBands(context, (t) => view.x(t), height - 3, 3, width);
  if (!grid) return;
  drawEnds(context, desk, width, height);
  const every = grid.thinning(view, 34);
  grid.lines(view, (i, x, isBar) => {
    context.fillStyle = isBar ? INK.bar : INK.faint;
    context.fillRect(Math.round(x), isBar ? STRIP : height - 8, 1, height);
    if (grid.isPinned(i)) drawPin(context, x, height - 8);
  });
  context.font = `560 16px ${SERIF}`;
  context.fillStyle = INK.ink;
  const last = Math.min(grid.length, grid.at(view.end) + 1);
  let free = -Infinity; // where the next number has room
  const tab = view.x(grid.ends[1]) + 2;
  const changes = new Map(grid.meters.map((m) => [m.bar, m.text]));
  for (let i = Math.max(0, grid.at(view.start) - 8); i < last; i++) {
    const change = grid.beat[i] === 1 && every === 1 ? changes.get(grid.bar[i]) : undefined;
    const x = view.x(grid.time[i]) + 5;
    if (grid.beat[i] !== 1 || (grid.bar[i] - 1) % every || x < free) continue;
    const number = String(grid.bar[i]);
    context.font = `560 16px ${SERIF}`;
    const wide = context.measureText(number).width;
    if (x + wide > tab && x < tab + TAB) continue; // the handle of the end lies there
    context.fillStyle = INK.ink;
    context.fillText(number, x, 33);
    free = x + wide + 6;
    if (change) {
      // meters where they change
      context.font = `italic 500 14px ${SERIF}`;
      context.fillStyle = INK.faded;
      context.fillText(change, free, 33);
      free += context.measureText(change).width + 6;
    }
  }
  if (desk.selected !== null) {
    const place = grid.place(desk.selected);
    if (place >= 0 && place < grid.length) {
      const x = view.x(grid.time[place]);
      context.fillStyle = INK.pin;
      context.beginPath();
      context.moveTo(x - 6, 18);
      context.lineTo(x + 6, 18);
      context.lineTo(x, 26);
      context.fill();
    }
  }
}

/**
 * Beyond the mapped music the ruler is hatched; a tab at either end can be dragged.
 * @param {Needs} desk
 */
function drawEnds(context, desk, width, height) {
  const [start, end] = desk.grid.ends.map((t) => desk.view.x(t));
  const tall = height - STRIP - 1;
  for (const [edge, away, from, to, kind] of [
    [start, -1, 0, Math.min(width, start), "starts"],
    [end, 1, Math.max(0, end), width, "ends"],
  ]) {
    if (to <= from) continue;
    context.save();
    context.beginPath();
    context.rect(from, STRIP + 1, to - from, tall);
    context.clip();
    context.strokeStyle = INK.rule;
    context.lineWidth = 1;
    context.beginPath();
    // tied to the map, so that the hatching scrolls with it
    for (let x = edge + away * 6; away > 0 ? x < to + tall : x > from - tall; x += away * 6) {
      if (x < from - tall || x > to + tall) continue;
      context.moveTo(x, height);
      context.lineTo(x + tall, STRIP);
    }
    context.stroke();
    const near = away > 0 ? edge + 3 : edge - TAB + 2;
    context.fillStyle = desk.hoverEnd === kind ? INK.pin : INK.faded;
    context.beginPath();
    context.roundRect(near, STRIP + 3, TAB - 5, tall - 4, 4);
    context.fill();
    // an arrow either way: it can be pulled
    const [cx, cy] = [near + (TAB - 5) / 2, STRIP + 1 + tall / 2];
    context.fillStyle = INK.sheet;
    context.beginPath();
    for (const d of [-1, 1]) {
      context.moveTo(cx + d * 7.5, cy);
      context.lineTo(cx + d * 2.5, cy - 4.5);
      context.lineTo(cx + d * 2.5, cy + 4.5);
    }
    context.fill();
    context.restore();
  }
}

/** A pin: a small square on its point, so that it differs in shape as well as in colour. */
function drawPin(context, x, y) {
  context.fillStyle = INK.pin;
  context.beginPath();
  context.moveTo(x + 0.5, y - 4.5);
  context.lineTo(x + 5, y);
  context.lineTo(x + 0.5, y + 4.5);
  context.lineTo(x - 4, y);
  context.fill();
}

export function clock(seconds, step = 1) {
  const sign = seconds < 0 ? "-" : "";
  const s = Math.abs(seconds);
  const digits = step >= 1 ? 0 : Math.min(6, Math.ceil(-Math.log10(step) - 1e-9));
  const rest = (s % 60).toFixed(digits);
  const minutes = Math.floor(s / 60) + (Number(rest) >= 60 ? 1 : 0);
  return `${sign}${minutes}:${(Number(rest) >= 60 ? (0).toFixed(digits) : rest).padStart(digits ? 3 + digits : 2, "0")}`;
}

/** @param {Needs} desk */
export function drawLanes(desk) {
  const canvas = desk.canvas.lanes;
  const { context, width, height, ratio } = fresh(canvas);
  const { view, laneHeight } = desk;
  const scroll = desk.scroller.scrollTop;
  const visible = [scroll, scroll + height];
  context.fillStyle = INK.sheet;
  context.fillRect(0, 0, width, height);
  shadeLoop(context, desk, height);
  shadeChange(context, desk, height);
  context.translate(0, -scroll); // the canvas is as high as what is seen of the lanes
  desk.growing?.draw(context, height);
  const budget = { ms: 3, ahead: 1.2 };
  let whole = true;
  const { lanes } = desk;
  lanes.forEach((track, i) => {
    const top = i * laneHeight;
    if (top > visible[1] || top + laneHeight < visible[0]) return;
    context.fillStyle = INK.rule;
    context.fillRect(0, top + laneHeight - 1, width, 1);
    if (track.instrument) return desk.parts.draw(context, track, top, laneHeight);
    if (!track.analysed) {
      context.fillStyle = INK.faded;
      context.font = `italic 15px ${SERIF}`;
      context.textBaseline = "middle";
      context.fillText("not analysed yet", 12, top + laneHeight / 2);
      return;
    }
    context.save();
    context.setTransform(1, 0, 0, 1, 0, 0);
    context.beginPath();
    context.rect(0, Math.round((top - scroll) * ratio), width * ratio, Math.round((laneHeight - 1) * ratio));
    context.clip();
    const done = desk.waves.draw(context, track, {
      top: Math.round((top - scroll + 2) * ratio),
      height: Math.round((laneHeight - 3) * ratio),
      width: Math.round(width * ratio),
      spp: view.spp / ratio,
      first: view.start * view.rate,
      gain: desk.waves.gain,
      budget,
      muted: desk.isSilenced(track),
      marks: desk.attacks,
    });
    context.restore();
    desk.reshaping.draw(context, track, top, laneHeight);
    whole = whole && done;
  });
  desk.marks.drawOver(context, lanes.length * laneHeight);
  verticals(context, desk, visible[0], Math.min(visible[1], lanes.length * laneHeight));
  if (desk.hover !== null && desk.grid) {
    const place = desk.grid.place(desk.hover);
    const x = view.x(desk.grid.time[place]);
    context.fillStyle = INK.pin;
    context.fillRect(Math.round(x) - 1, scroll, 3, height);
  }
  context.fillStyle = INK.bar;
  for (const t of desk.tapping.taps) context.fillRect(Math.round(view.x(t)) - 1, scroll, 2, height);
  if (!whole) desk.later();
}
