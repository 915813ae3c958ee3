// @ts-check
// Which of the captured samples belong to a pass: those from its first to its last sample in the session.

/**
 * @param {{first: number, data: Float32Array, width: number}} stretch captured samples and the clock's frame of the first
 * @param {number} anchor session sample minus frame of the clock, the latency taken out
 * @param {number} from session sample at which the pass begins
 * @param {number} to and before which it ends; Infinity where it goes on
 * @returns {{data: Float32Array, ends: boolean}} what belongs to it, and whether the pass ends in this stretch
 */
export function cut({ first, data, width }, anchor, from, to) {
  const start = first + anchor;
  const frames = data.length / width;
  const a = Math.min(frames, Math.max(0, from - start));
  const b = Math.max(a, Math.min(frames, to - start));
  return { data: data.subarray(a * width, b * width), ends: start + frames >= to };
}

/** The largest value of each channel, as dB of full scale. */
export function peaks(data, width) {
  const most = new Array(width).fill(0);
  for (let i = 0; i < data.length; i++) most[i % width] = Math.max(most[i % width], Math.abs(data[i]));
  return most.map((p) => 20 * Math.log10(Math.max(p, 1e-6)));
}

/** Some stretches as one. */
export function joined(pieces) {
  const out = new Float32Array(pieces.reduce((n, p) => n + p.length, 0));
  let at = 0;
  for (const p of pieces) {
    out.set(p, at);
    at += p.length;
  }
  return out;
}
