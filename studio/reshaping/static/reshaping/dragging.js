// @ts-check
// One attack, or a fence of one, is taken hold of in its lane and dragged.

/** @typedef {Pick<import("../desk/desk.js").Desk, "attacks" | "facts" | "grid" | "laneHeight" | "panels" | "redraw" | "scroller" | "view">} Needs what this uses of the desk */
/** @typedef {{track: number, from: number, to: number, key?: number, side?: "before" | "after"}} Held an attack, or a fence of a move */

const FOOT = 18; // pixels at the bottom of a lane, where attacks are marked
const GRAB = 6;
const SNAP = 8;

export class Dragging {
  /**
   * @param {Needs} desk
   * @param {import("./reshaping.js").Reshaping} reshaping
   */
  constructor(desk, reshaping) {
    this.desk = desk;
    this.reshaping = reshaping;
    /** @type {Held | null} */
    this.held = null;
  }

  /** What lies under the pointer: while attacks are tightened, on the recording, at the foot of a ticked player's lane. */
  at(x, y) {
    const { desk, reshaping } = this;
    if (desk.panels.stage !== "reshape" || desk.panels.pane !== "tighten" || reshaping.shown) return null;
    const below = y + desk.scroller.scrollTop;
    const track = desk.facts.tracks[Math.floor(below / desk.laneHeight)];
    if (!track || desk.laneHeight - (below % desk.laneHeight) > FOOT) return null;
    return this.#fence(track, x) ?? this.#attack(track, x);
  }

  #fence(track, x) {
    for (const move of this.reshaping.state.moves.filter((m) => m.tracks.includes(track.id)))
      for (const [k, fence] of move.fences.entries())
        if (Math.abs(this.desk.view.x(fence) - x) < GRAB)
          return { track: track.id, from: fence, to: fence, key: move.key, side: k ? "after" : "before" };
    return null;
  }

  #attack(track, x) {
    if (!this.reshaping.chosenTracks().includes(track.id)) return null;
    const { view, attacks } = this.desk;
    const found = attacks.of(track);
    if (!found) return null;
    const near = (t) => Math.abs(view.x(t) - x);
    const least = attacks.least(track);
    const heard = found.seconds.filter((t, i) => found.strength[i] >= least && near(t) < GRAB);
    if (!heard.length) return null;
    const from = heard.reduce((a, b) => (near(b) < near(a) ? b : a));
    return { track: track.id, from, to: from };
  }

  /** Follow the pointer until it is let go. */
  start(canvas, down, held, timeAt) {
    const { desk, reshaping } = this;
    this.held = held;
    const move = (e) => {
      held.to = held.side || e.altKey ? timeAt(e) : this.#snapped(timeAt(e), held.track);
      desk.redraw();
    };
    const up = () => {
      canvas.removeEventListener("pointermove", move);
      this.held = null;
      desk.redraw();
      if (Math.abs(desk.view.x(held.to) - desk.view.x(held.from)) < 1) return;
      const fences = reshaping.state.moves.find((m) => m.key === held.key)?.fences;
      if (!held.side) reshaping.make({ do: "move", track: held.track, attack: held.from, to: held.to });
      else if (fences) {
        const [before, after] = held.side === "before" ? [held.to, fences[1]] : [fences[0], held.to];
        reshaping.make({ do: "fences", key: held.key, before, after });
      }
    };
    canvas.setPointerCapture(down.pointerId);
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerup", up, { once: true });
  }

  /** A beat, or an attack of another player, that is near. */
  #snapped(t, own) {
    const { grid, view, facts, attacks } = this.desk;
    const near = [];
    if (grid) near.push(grid.time[grid.nearest(t)]);
    for (const track of facts.tracks) {
      const found = track.id !== own && attacks.of(track);
      if (found) near.push(...found.seconds.filter((s) => Math.abs(s - t) < SNAP * view.perPixel));
    }
    const best = near.reduce((a, b) => (Math.abs(b - t) < Math.abs(a - t) ? b : a), Infinity);
    return Math.abs(view.x(best) - view.x(t)) < SNAP ? best : t;
  }
}
