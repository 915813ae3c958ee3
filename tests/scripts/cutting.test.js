// Which captured samples belong to a pass.

import assert from "node:assert/strict";
import { test } from "node:test";

import { cut, joined, peaks } from "../../studio/recording/static/recording/cutting.js";

const stretch = (first, frames, width = 1) => ({
  first,
  width,
  data: Float32Array.from({ length: frames * width }, (_, i) => first * width + i),
});

test("a pass begins and ends on its own samples, wherever the stretches lie", () => {
  // the clock's frame 1000 plays session sample 0; the pass is 100 to 2500
  const all = [];
  let ended = -1;
  for (let first = 960; first < 5000 && ended < 0; first += 512) {
    const { data, ends } = cut(stretch(first, 512), -1000, 100, 2500);
    all.push(data);
    if (ends) ended = first;
  }
  const whole = joined(all);
  assert.equal(whole.length, 2400);
  assert.equal(whole[0], 1100);
  assert.equal(whole.at(-1), 3499);
  assert.ok(ended >= 3500 - 512);
});

test("latency moves what is kept, channels stay together", () => {
  const { data } = cut(stretch(0, 1024, 2), -200, 0, Infinity);
  assert.equal(data.length, 2 * 824);
  assert.equal(data[0], 400);
  assert.equal(cut(stretch(0, 100), -200, 0, Infinity).data.length, 0);
});

test("peaks are told in dB of each channel", () => {
  const [l, r] = peaks(Float32Array.from([0.5, 0, -1, 0, 0.1, 0]), 2);
  assert.ok(Math.abs(l) < 1e-9);
  assert.equal(r, -120);
});
