// @ts-check
// The last thing before the loudspeakers: nothing gets louder than full scale. The gain is known a moment ahead, so that
// peaks are met by a gentle turn instead of being cut off; where nothing is too loud, samples pass unchanged.

export const AHEAD = 96; // samples of delay: 2 ms at 48 kHz
export const CEILING = 0.98; // -0.2 dBFS
const RELEASE = 0.0004; // share of the way back to no reduction, a sample
const TELL_EVERY = 20; // blocks

export class Limiter {
  constructor() {
    this.left = new Float32Array(AHEAD);
    this.right = new Float32Array(AHEAD);
    this.gains = new Float64Array(AHEAD + 1).fill(1); // of the samples that are on their way
    this.smooth = new Float64Array(AHEAD).fill(1); // their minima, of which the mean is taken
    this.sum = AHEAD;
    this.at = 0;
    this.step = 0;
    this.held = 1;
    this.least = 1; // since it was last asked
    this.busy = 0; // samples for which something may still be turned down
  }

  /** Limit in place: what comes out came in AHEAD samples ago. */
  process(left, right) {
    for (let i = 0; i < left.length; i++) {
      const peak = Math.max(Math.abs(left[i]), Math.abs(right[i]));
      const gain = this.#gain(peak > CEILING ? CEILING / peak : 1);
      const k = this.at;
      const [l, r] = [this.left[k], this.right[k]];
      [this.left[k], this.right[k]] = [left[i], right[i]];
      this.at = k + 1 === AHEAD ? 0 : k + 1;
      [left[i], right[i]] = [l * gain, r * gain];
    }
  }

  /** The gain for the sample that goes out as one that needs `wanted` comes in. */
  #gain(wanted) {
    if (wanted === 1 && this.busy === 0) return 1;
    if (wanted < 1) this.busy = 4 * AHEAD + Math.ceil(12 / RELEASE);
    else this.busy--;
    this.gains[this.step % (AHEAD + 1)] = wanted;
    let low = 1;
    for (const g of this.gains) if (g < low) low = g;
    this.held = Math.min(low, this.held + (1 - this.held) * RELEASE);
    const k = this.step % AHEAD;
    this.sum += this.held - this.smooth[k];
    this.smooth[k] = this.held;
    this.step++;
    if (this.busy === 0) {
      this.gains.fill(1);
      this.smooth.fill(1);
      [this.sum, this.held] = [AHEAD, 1];
      return 1;
    }
    const gain = Math.min(1, this.sum / AHEAD);
    if (gain < this.least) this.least = gain;
    return gain;
  }

  /** The strongest reduction since this was last asked, in dB (0 or below). */
  reduction() {
    const least = this.least;
    this.least = 1;
    return 20 * Math.log10(least);
  }
}

if (globalThis.registerProcessor) {
  registerProcessor(
    "limiter",
    class extends AudioWorkletProcessor {
      constructor() {
        super();
        this.limiter = new Limiter();
        this.ticks = 0;
      }
      process([input], [[left, right]]) {
        if (input.length) {
          left.set(input[0]);
          right.set(input[1] ?? input[0]);
        }
        this.limiter.process(left, right);
        if (++this.ticks % TELL_EVERY === 0) {
          const db = this.limiter.reduction();
          if (db < -0.05) this.port.postMessage(db);
        }
        return true;
      }
    },
  );
}
