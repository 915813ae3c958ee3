// @ts-check
// Bars and beats as the server sends them, looked up for drawing and pointing. No musical reckoning here.

export class Grid {
  /**
   * A grid as sent whole, or as what changed in the one that the page has.
   * @param {GridData | GridChange} sent
   * @param {Grid} [base]
   */
  static of(sent, base) {
    if (!("from" in sent) || sent.from === undefined) return new Grid(/** @type {GridData} */ (sent));
    const from = sent.from;
    const { bar, beat, first } = base;
    const [time, bpm] = [base.time.slice(), base.bpm.slice()];
    sent.time.forEach((t, i) => (time[from + i] = t));
    sent.bpm.forEach((t, i) => (bpm[from + i] = t));
    return new Grid({ time, bar, beat, first, bpm, pins: sent.pins, meters: sent.meters });
  }

  /** @param {GridData} data */
  constructor(data) {
    /** Seconds of each beat. */
    this.time = data.time;
    this.bar = data.bar;
    /** Number in the bar, from 1. */
    this.beat = data.beat;
    /** Felt tempo to the next beat. */
    this.bpm = data.bpm;
    /** Felt-beat index of the first beat. */
    this.first = data.first;
    this.pins = data.pins;
    this.meters = data.meters;
    this.pinned = new Set(data.pins);
    this.length = data.time.length;
  }

  /** Place of the first beat at or after `seconds`. */
  at(seconds) {
    let low = 0;
    let high = this.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (this.time[middle] < seconds) low = middle + 1;
      else high = middle;
    }
    return low;
  }

  /** Place of the beat that sounds at `seconds`, -1 before the first. */
  sounding(seconds) {
    return this.at(seconds + 1.2e-5) - 1; // the player stands on whole samples, up to half of one before the beat
  }

  nearest(seconds) {
    const i = this.at(seconds);
    if (i === 0) return 0;
    if (i === this.length) return i - 1;
    return this.time[i] - seconds < seconds - this.time[i - 1] ? i : i - 1;
  }

  /** Felt-beat index (as edits name beats) of the beat at a place. */
  index(place) {
    return this.first + place;
  }
  place(index) {
    return index - this.first;
  }
  /** The index of a beat chosen in an older grid: of the one at its time, else of its own index; null where it went. */
  still(index, seconds) {
    const place = seconds === undefined ? -1 : this.nearest(seconds);
    if (place >= 0 && Math.abs(this.time[place] - seconds) < 1e-6) return this.index(place);
    return this.time[this.place(index)] === undefined ? null : index;
  }
  isPinned(place) {
    return this.pinned.has(this.index(place));
  }

  /** Place of the bar line at or before `place`, and of the next bar line. */
  bar_around(place) {
    let from = place;
    while (from > 0 && this.bar[from - 1] === this.bar[place]) from--;
    let to = place + 1;
    while (to < this.length && this.bar[to] === this.bar[place]) to++;
    return [from, to];
  }

  /** Where the beat at `place` ends. */
  end(place) {
    return place + 1 < this.length ? this.time[place + 1] : this.time[place] + 60 / this.bpm[place];
  }

  /** Where the mapped music starts and ends, in seconds. */
  get ends() {
    return [this.time[0], this.time[this.length - 1]];
  }

  /** Lowest and highest tempo of a scale for the whole take, without its strays: scrolling does not move it. */
  get usualTempos() {
    if (!this.usual) {
      const sorted = Float64Array.from(this.bpm).sort();
      const [low, high] = [0.02, 0.98].map((share) => sorted[Math.floor(sorted.length * share)]);
      const pad = Math.max(2, (high - low) * 0.2);
      this.usual = [low - pad, high + pad];
    }
    return this.usual;
  }

  /** How many bars to skip between drawn bar lines so that they stay `least` pixels apart. */
  thinning(view, least) {
    const bars = Math.max(1, (this.bar[this.length - 1] ?? 1) - (this.bar[0] ?? 0));
    const pixels = (this.time[this.length - 1] - this.time[0]) / view.perPixel / bars;
    let every = 1;
    for (const n of [1, 2, 4, 8, 16, 32, 64, 128]) {
      every = n;
      if (pixels * n >= least) break;
    }
    return every;
  }

  /** Call `draw(place, x, isBar)` for the lines on screen, thinned where they would crowd. */
  lines(view, draw) {
    const every = this.thinning(view, 7);
    const first = Math.max(0, this.at(view.start) - 1);
    const last = Math.min(this.length, this.at(view.end) + 1);
    const dense = last - first > view.width / 9;
    for (let i = first; i < last; i++) {
      const isBar = this.beat[i] === 1;
      if (isBar ? (this.bar[i] - 1) % every !== 0 : dense) continue;
      draw(i, view.x(this.time[i]), isBar);
    }
  }
}
