// @ts-check
// The whole take above the desk. Its picture is drawn when something in it changes; what scrolls is only a frame on it.

import { drawDoubts } from "./drawing.js";
import { INK, fresh } from "./palette.js";

/** All tracks over one another, each faint, so that dense places grow dark; kept as a picture once it is complete. */
function wholeTake(desk, width, height) {
  const { facts } = desk;
  const analysed = facts.tracks.filter((t) => t.analysed);
  const key = [width, height, facts.seconds, INK.wave, INK.shade, ...analysed.map((t) => t.id)].join();
  if (desk.wholeTake?.key === key) return desk.wholeTake;
  const canvas = new OffscreenCanvas(Math.max(1, width), Math.max(1, height));
  const context = canvas.getContext("2d");
  context.fillStyle = INK.shade;
  context.fillRect(0, 0, width, height);
  context.globalAlpha = Math.max(0.12, 0.7 / Math.max(1, analysed.length));
  const budget = { ms: 8 };
  const spp = (facts.seconds * facts.rate) / width;
  let complete = true;
  for (const track of analysed)
    complete =
      desk.waves.draw(context, track, { top: 0, height, width, spp, first: 0, gain: 1, budget, muted: false }) &&
      complete;
  if (complete) desk.wholeTake = { key, canvas };
  else desk.later();
  return { key, canvas };
}

export function drawOverview(desk) {
  const { view, facts } = desk;
  const { overview } = desk.canvas;
  const scale = overview.clientWidth / Math.max(facts.seconds, 1e-6);
  const seen = document.getElementById("seen");
  seen.style.transform = `translateX(${view.start * scale}px)`;
  seen.style.width = `${Math.max(3, (Math.min(view.end, facts.seconds) - view.start) * scale)}px`;
  // all that the picture shows; what changes is another object, or another number
  const shows = [
    desk.grid,
    desk.marks.list,
    desk.doubts.list,
    desk.loop,
    desk.wholeTake,
    facts.seconds,
    facts.tracks,
    INK.wave,
    overview.clientWidth,
    overview.clientHeight,
    devicePixelRatio,
  ];
  if (desk.overviewShows?.every((x, i) => x === shows[i])) return;
  desk.overviewShows = null;
  const { key } = picture(desk, scale);
  // while its waveforms are still on their way it is drawn once more
  if (desk.wholeTake?.key === key) desk.overviewShows = shows.with(4, desk.wholeTake);
}

function picture(desk, scale) {
  const { context, width, height, ratio } = fresh(desk.canvas.overview);
  const { grid } = desk;
  const whole = wholeTake(desk, Math.round(width * ratio), Math.round(height * ratio));
  context.drawImage(whole.canvas, 0, 0, width, height);
  if (grid) {
    context.fillStyle = INK.bar;
    const every = Math.max(1, Math.ceil(grid.bar[grid.length - 1] / (width / 60) / 8) * 8);
    for (let i = 0; i < grid.length; i++) {
      if (grid.beat[i] !== 1 || (grid.bar[i] - 1) % every) continue;
      context.fillRect(Math.round(grid.time[i] * scale), height - 6, 1, 6);
    }
  }
  desk.marks.drawBands(context, (t) => t * scale, 0, 15, width);
  drawDoubts(context, desk, (t) => t * scale, height - 8, 10);
  if (desk.loop) {
    context.fillStyle = INK.loop;
    context.fillRect(desk.loop[0] * scale, 0, (desk.loop[1] - desk.loop[0]) * scale, height);
  }
  return whole;
}
