// @ts-check
// Which stretch of time is on screen. Zoom goes in fixed steps so that drawn waveforms can be kept and reused.

const STEP = 2 ** 0.25;
const DEEPEST = 1 / 24; // samples a pixel: 24 pixels a sample

export class Viewport extends EventTarget {
  constructor(rate, seconds) {
    super();
    this.rate = rate;
    this.seconds = seconds;
    this.width = 800;
    this.start = 0; // seconds at the left edge
    this.spp = 1024; // samples a CSS pixel
    this.whole = true;
  }

  get perPixel() {
    return this.spp / this.rate;
  }
  get span() {
    return this.width * this.perPixel;
  }
  get end() {
    return this.start + this.span;
  }
  x(seconds) {
    return (seconds - this.start) / this.perPixel;
  }
  time(x) {
    return this.start + x * this.perPixel;
  }

  get widest() {
    return Math.max(1, (this.seconds * this.rate) / Math.max(1, this.width));
  }

  resize(width) {
    this.width = width;
    if (this.whole) this.fit();
    else this.set(this.start, this.spp);
  }

  fit() {
    this.whole = true;
    this.spp = this.widest;
    this.start = 0;
    this.dispatchEvent(new Event("change"));
  }

  set(start, spp = this.spp) {
    this.spp = Math.min(Math.max(spp, DEEPEST), this.widest);
    this.whole = this.spp >= this.widest;
    const rightmost = Math.max(0, this.seconds - this.span);
    this.start = Math.min(Math.max(0, start), rightmost);
    // whole device pixels, so that drawn waveforms do not shimmer
    const pixel = this.perPixel / (globalThis.devicePixelRatio || 1);
    this.start = Math.round(this.start / pixel) * pixel;
    this.dispatchEvent(new Event("change"));
  }

  scrollBy(pixels) {
    this.set(this.start + pixels * this.perPixel);
  }

  /** Zoom by whole steps around the time under x; positive steps go in. */
  zoom(steps, x = this.width / 2) {
    const at = this.time(x);
    const level = Math.round(Math.log(this.spp) / Math.log(STEP)) - steps;
    const spp = Math.min(Math.max(STEP ** level, DEEPEST), this.widest);
    this.set(at - x * (spp / this.rate), spp);
  }

  show(seconds, margin = 0.15) {
    if (seconds < this.start + margin * this.span * 0.2 || seconds > this.end - margin * this.span) {
      this.set(seconds - margin * this.span);
    }
  }
}
