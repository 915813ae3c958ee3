// @ts-check
// Pointer and wheel on the canvases: go somewhere, take hold of a line, loop a stretch, scroll, zoom.

import { STRIP, TAB } from "./drawing.js";
import { Touch } from "./touch.js";

/** @typedef {Pick<import("./desk.js").Desk, "attacks" | "canvas" | "contourScale" | "editing" | "facts" | "grid" | "hover" | "hoverEnd" | "laneHeight" | "loop" | "panels" | "player" | "redraw" | "reshaping" | "scroller" | "select" | "selected" | "setLoop" | "view" | "wake" | "waves">} Needs what this uses of the desk */

const GRAB = 9; // pixels around a line that take hold of it
const FINGER = 18; // the same for a finger

/** @param {Needs} desk */
export function pointing(desk) {
  const { ruler, lanes, contour, overview } = desk.canvas;
  const xOf = (e) => e.clientX - lanes.getBoundingClientRect().left;

  const touch = new Touch(desk);

  const beatAt = (x, within = GRAB) => {
    const { grid, view } = desk;
    if (!grid) return null;
    let best = null;
    let distance = within;
    grid.lines(view, (i, at, isBar) => {
      const d = Math.abs(at - x) - (isBar ? 1 : 0); // where both are near, the bar line
      if (d < distance) [best, distance] = [i, d];
    });
    return best === null ? null : grid.index(best);
  };
  /** The beat whose dot in the contour is under the pointer. */
  const dotAt = (x, y) => {
    const { grid, view } = desk;
    if (!grid || !desk.contourScale) return null;
    const i = grid.sounding(view.time(x));
    for (const k of [i - 1, i, i + 1]) {
      if (k < 0 || k >= grid.length) continue;
      const dx = view.x((grid.time[k] + grid.end(k)) / 2) - x;
      if (Math.hypot(dx, desk.contourScale.y(grid.bpm[k]) - y) < 8) return grid.index(k);
    }
    return null;
  };
  /** The handle of the mapped music's start or end under the pointer: the tabs in the ruler, outside the music. */
  const endAt = (x, y) => {
    const { grid, view } = desk;
    if (!grid || grid.length < 2 || y < STRIP) return null;
    const [start, end] = grid.ends.map((t) => view.x(t));
    if (x < start - 2 && x >= start - TAB) return "starts";
    return x > end + 2 && x <= end + TAB ? "ends" : null;
  };
  const trackAt = (y) => desk.facts.tracks[Math.floor((y + desk.scroller.scrollTop) / desk.laneHeight)]?.id;

  for (const canvas of [ruler, lanes, contour]) {
    canvas.addEventListener("pointermove", (e) => {
      if (e.buttons) return;
      if (canvas === lanes && desk.reshaping.dragging.at(xOf(e), e.offsetY)) return (canvas.style.cursor = "grab");
      const end = canvas === ruler ? endAt(xOf(e), e.offsetY) : null;
      if (end !== desk.hoverEnd) {
        desk.hoverEnd = end;
        ruler.title = end ? `Drag: where the mapped music ${end}` : "";
        desk.redraw();
      }
      const beat = end || canvas === contour || (canvas === ruler && e.offsetY < STRIP) ? null : beatAt(xOf(e));
      const dot = canvas === contour && dotAt(xOf(e), e.offsetY) !== null;
      canvas.style.cursor = dot ? "ns-resize" : beat === null && !end ? "" : "ew-resize";
      if (beat !== desk.hover) {
        desk.hover = beat;
        desk.redraw();
      }
    });
    canvas.addEventListener("pointerleave", () => {
      if (desk.hover !== null || desk.hoverEnd) {
        desk.hover = desk.hoverEnd = null;
        desk.redraw();
      }
    });
    canvas.addEventListener("pointerdown", (e) => {
      if (e.button !== 0) return;
      desk.wake();
      const x = xOf(e);
      if ((canvas === ruler && e.offsetY < STRIP) || e.shiftKey) return stretch(canvas, e, x);
      const end = canvas === ruler ? endAt(x, e.offsetY) : null;
      if (end) return desk.editing.dragEnd(canvas, e, end);
      const dot = canvas === contour ? dotAt(x, e.offsetY) : null;
      if (dot !== null) {
        choose(dot);
        return desk.editing.dragTempo(canvas, e, dot);
      }
      const held = canvas === lanes ? desk.reshaping.dragging.at(x, e.offsetY) : null;
      if (held) return desk.reshaping.dragging.start(canvas, e, held, (ev) => desk.view.time(xOf(ev)));
      if (canvas === contour) return stretch(canvas, e, x); // lines are held in the ruler and the lanes
      const byTouch = e.pointerType === "touch";
      const beat = beatAt(x, byTouch ? FINGER : GRAB);
      // a finger in the lanes moves a line only when that was chosen before: most of the time it scrolls
      if (byTouch && (beat === null || (canvas === lanes && beat !== desk.selected)))
        return touch.down(canvas, e, () => (beat === null ? leave(x) : choose(beat)));
      if (beat === null) return leave(x);
      choose(beat);
      return desk.editing.dragBeat(canvas, e, beat, canvas === lanes ? trackAt : () => undefined);
    });
  }

  function choose(beat) {
    desk.select(beat);
    desk.panels.turn("beat");
  }

  function leave(x) {
    desk.select(null);
    desk.player.seek(desk.view.time(x));
  }

  /** Drag along the time strip: a loop from line to line, with Ctrl from attack to attack, with Alt free; a plain click
   * goes there. */
  function stretch(canvas, down, from) {
    const snap = (x, e) => {
      const t = Math.max(0, desk.view.time(x));
      const { grid } = desk;
      if (e.ctrlKey || e.metaKey) return desk.attacks.nearest(t, 24 * desk.view.perPixel) ?? t;
      if (!grid || e.altKey) return t;
      const i = grid.nearest(t);
      return Math.abs(desk.view.x(grid.time[i]) - x) < 24 ? grid.time[i] : t;
    };
    let moved = false;
    const move = (e) => {
      const x = xOf(e);
      if (!moved && Math.abs(x - from) < 5) return;
      moved = true;
      const [a, b] = [snap(from, e), snap(x, e)].sort((p, q) => p - q);
      if (b - a > 0.05) desk.setLoop([a, b]);
    };
    const up = () => {
      canvas.removeEventListener("pointermove", move);
      if (!moved) desk.player.seek(desk.view.time(from));
      else if (desk.loop) {
        desk.player.seek(desk.loop[0]);
        if (desk.panels.stage === "check") desk.panels.turn("stretch");
      }
    };
    canvas.setPointerCapture(down.pointerId);
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerup", up, { once: true });
  }

  overview.addEventListener("pointerdown", (e) => {
    desk.wake();
    const go = (ev) => {
      const box = overview.getBoundingClientRect();
      const t = ((ev.clientX - box.left) / box.width) * desk.facts.seconds;
      desk.view.set(t - desk.view.span / 2);
      return t;
    };
    const t = go(e);
    if (!desk.player.playing) desk.player.seek(t);
    overview.setPointerCapture(e.pointerId);
    overview.addEventListener("pointermove", go);
    overview.addEventListener("pointerup", () => overview.removeEventListener("pointermove", go), { once: true });
  });

  let pinched = 0;
  for (const canvas of [ruler, lanes, contour, overview]) {
    canvas.addEventListener(
      "wheel",
      (e) => {
        e.preventDefault();
        const line = e.deltaMode === 1 ? 24 : 1;
        if (e.ctrlKey || e.metaKey) {
          // a notch of a wheel is a step or two; a pinch adds up small ones
          pinched -= (e.deltaY * line) / (Math.abs(e.deltaY) >= 40 ? 60 : 9);
          const steps = Math.trunc(pinched);
          pinched -= steps;
          if (steps) desk.view.zoom(Math.max(-4, Math.min(4, steps)), xOf(e));
        } else if (e.altKey) {
          desk.waves.heighten(e.deltaY < 0 ? 1.25 : 0.8);
          desk.redraw();
        } else {
          desk.view.scrollBy((Math.abs(e.deltaX) > Math.abs(e.deltaY) ? e.deltaX : e.deltaY) * line);
        }
      },
      { passive: false },
    );
  }
}
