// @ts-check
// Fingers on the canvases: one that moves scrolls, two zoom, one that does not move is a press.

/** @typedef {Pick<import("./desk.js").Desk, "scroller" | "view">} Needs what this uses of the desk */

const STILL = 8; // pixels that a press may move
const STEPS = 4; // zoom steps in an octave, as Viewport has them

export class Touch {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    /** @type {Map<number, {x: number, y: number}>} */
    this.fingers = new Map();
    this.apart = 0;
  }

  /**
   * A finger comes down where nothing is taken hold of.
   * @param {HTMLElement} canvas
   * @param {PointerEvent} down
   * @param {() => void} press what it does if it does not move
   */
  down(canvas, down, press) {
    this.fingers.set(down.pointerId, { x: down.clientX, y: down.clientY });
    this.still = this.fingers.size === 1;
    this.apart = this.#distance();
    canvas.setPointerCapture(down.pointerId);
    const move = (e) => {
      if (e.pointerId === down.pointerId) this.#move(canvas, e, down);
    };
    const up = (e) => {
      if (e.pointerId !== down.pointerId) return;
      canvas.removeEventListener("pointermove", move);
      canvas.removeEventListener("lostpointercapture", up);
      const alone = this.fingers.size === 1;
      this.fingers.delete(down.pointerId);
      if (alone && this.still && e.type === "lostpointercapture") press();
    };
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("lostpointercapture", up);
  }

  #move(canvas, e, down) {
    const last = this.fingers.get(e.pointerId);
    if (this.still && Math.hypot(e.clientX - down.clientX, e.clientY - down.clientY) < STILL) return;
    this.still = false;
    const share = 1 / this.fingers.size; // two fingers that go the same way scroll once
    this.desk.view.scrollBy((last.x - e.clientX) * share);
    this.desk.scroller.scrollTop += (last.y - e.clientY) * share;
    this.fingers.set(e.pointerId, { x: e.clientX, y: e.clientY });
    if (this.fingers.size === 2) this.#zoom(canvas);
  }

  #distance() {
    const [a, b] = this.fingers.values();
    return b ? Math.hypot(a.x - b.x, a.y - b.y) : 0;
  }

  #zoom(canvas) {
    const now = this.#distance();
    const steps = Math.trunc(Math.log2(now / this.apart) * STEPS);
    if (!steps) return;
    this.apart *= 2 ** (steps / STEPS);
    const [a, b] = this.fingers.values();
    this.desk.view.zoom(steps, (a.x + b.x) / 2 - canvas.getBoundingClientRect().left);
  }
}
