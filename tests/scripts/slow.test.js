// Slow playback: each attack sounds once, where its click is, and what lies between keeps its pitch.

import assert from "node:assert/strict";
import { test } from "node:test";

globalThis.AudioWorkletProcessor = class {
  port = { postMessage: () => {} };
};
let Mixer;
globalThis.registerProcessor = (_, made) => (Mixer = made);
globalThis.currentTime = 0;
globalThis.currentFrame = 0;
await import("../../studio/desk/static/desk/mixer.js?slow");

const RATE = 48000;
const SIZE = 32768;

/** A row of numbers from 0 to 1 that is the same each time. */
function rows(seed) {
  let state = seed;
  return () => (state = (state * 1103515245 + 12345) % 2147483648) / 2147483648;
}

/** Strokes at irregular distances, down to 60 ms, over a quiet tone; their times in seconds. */
function performance() {
  const random = rows(7);
  const take = new Float32Array(5 * RATE);
  const times = [];
  for (let t = 0.4; t < 4.6; t += [0.5, 0.25, 0.125, 0.06][Math.floor(4 * random())]) times.push(t);
  for (const t of times) {
    const start = Math.round(t * RATE);
    for (let i = 0; i < 9000 && start + i < take.length; i++) {
      const body = 0.6 * Math.exp(-i / 1800) * Math.sin((2 * Math.PI * 60 * i) / RATE + 0.5);
      take[start + i] += body + 0.3 * Math.exp(-i / 60) * (2 * random() - 1);
    }
  }
  for (let i = 0; i < take.length; i++) take[i] += 0.05 * Math.sin((2 * Math.PI * 330 * i) / RATE);
  return { take, times };
}

function played(take, attacks, pace) {
  const mixer = new Mixer();
  mixer.layout({ tracks: [{ channels: 1, gain: [1, 1] }], size: SIZE, total: take.length });
  for (let n = 0; n * SIZE < take.length; n++) {
    const data = new Float32Array(SIZE);
    data.set(take.subarray(n * SIZE, (n + 1) * SIZE));
    mixer.block({ number: n, data: data.buffer });
  }
  mixer.attacks({ samples: attacks });
  mixer.setPace({ pace });
  mixer.play({ at: 0 });
  const out = [];
  while (out.length < take.length / pace) {
    const output = [new Float32Array(128), new Float32Array(128)];
    mixer.process([], [output]);
    out.push(...output[0]);
  }
  return out;
}

/** Where something sharp starts, in samples: the steepness of 0.5 ms rises far above that of the 4 ms before. */
function starts(sound) {
  const wide = 24;
  const steep = [];
  for (let i = 0; i + wide < sound.length; i += wide) {
    let sum = 0;
    for (let j = 1; j < wide; j++) sum += (sound[i + j] - sound[i + j - 1]) ** 2;
    steep.push(sum);
  }
  const found = [];
  for (let i = 8; i < steep.length; i++) {
    const before = Math.max(...steep.slice(i - 8, i - 1));
    if (steep[i] > 0.05 && steep[i] > 6 * before && i * wide - (found.at(-1) ?? -RATE) > 0.03 * RATE)
      found.push(i * wide);
  }
  return found;
}

const { take, times } = performance();

for (const pace of [0.5, 0.6, 0.7, 0.75])
  for (const [words, off] of [
    ["exact", () => 0],
    ["found up to 1 ms beside them", rows(3)],
  ])
    test(`at ${100 * pace} % every attack is heard once and within 2 ms of its click, marks ${words}`, () => {
      const marks = times.map((t) => Math.round(t * RATE + (off() - 0.3) * 0.001 * RATE * (words === "exact" ? 0 : 1)));
      const heard = starts(played(take, marks, pace));
      assert.equal(heard.length, times.length);
      heard.forEach((at, k) => {
        const click = (times[k] * RATE) / pace;
        assert.ok(Math.abs(at - click) < 0.002 * RATE, `${((at - click) / RATE) * 1000} ms at ${times[k]} s`);
      });
    });

test("nothing between attacks is louder than it was", () => {
  const slow = played(take, times.map((t) => Math.round(t * RATE)), 0.5); // prettier-ignore
  const peak = (x) => x.reduce((most, v) => Math.max(most, Math.abs(v)), 0);
  assert.ok(peak(slow) < 1.15 * peak(take));
});
