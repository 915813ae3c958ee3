// The arithmetic of the audio thread, run without one: levels, clicks, jumps, missing blocks.

import assert from "node:assert/strict";
import { test } from "node:test";

const QUANTUM = 128;
let Mixer;
globalThis.AudioWorkletProcessor = class {
  port = { told: [], postMessage: (what) => this.port.told.push(what) };
};
globalThis.registerProcessor = (_, made) => (Mixer = made);
globalThis.currentTime = 0;
globalThis.currentFrame = 0;
await import("../../studio/desk/static/desk/mixer.js");

/** A mixer with a mono ramp (0, 1, 2 …, divided by 1000) of `total` samples in blocks of `size`. */
function mixer({ total = 4096, size = 1024, gains = [1], blocks = true } = {}) {
  const made = new Mixer();
  made.layout({ tracks: gains.map((gain) => ({ channels: 1, gain: [gain, gain] })), size, total });
  for (let number = 0; blocks && number * size < total; number++) {
    const data = new Float32Array(size * gains.length);
    for (let t = 0; t < gains.length; t++)
      for (let i = 0; i < size; i++) data[t * size + i] = (number * size + i) / 1000;
    made.block({ number, data: data.buffer });
  }
  return made;
}

function play(made, samples) {
  const left = [];
  const right = [];
  while (left.length < samples) {
    const output = [new Float32Array(QUANTUM), new Float32Array(QUANTUM)];
    made.process([], [output]);
    left.push(...output[0]);
    right.push(...output[1]);
  }
  return { left, right };
}

const close = (a, b) => assert.ok(Math.abs(a - b) < 1e-6, `${a} is not ${b}`);

test("it plays sample for sample over the edges of blocks", () => {
  const made = mixer();
  made.play({ at: 1000 });
  const { left, right } = play(made, 256);
  for (let i = 0; i < 256; i++) close(left[i], (1000 + i) / 1000);
  assert.deepEqual(left, right);
});

test("tracks add up at their levels", () => {
  const made = mixer({ gains: [0.5, 0.25] });
  made.play({ at: 0 });
  close(play(made, 128).left[100], 0.75 * 0.1);
});

test("a change of level glides and arrives", () => {
  const made = mixer({ total: 48_000, size: 48_000 });
  made.play({ at: 40_000 });
  play(made, 128);
  made.gains({ gains: [[0, 0]] });
  const { left } = play(made, 4096);
  const steps = left.slice(1).map((x, i) => Math.abs(x - left[i]));
  assert.ok(Math.max(...steps) < 0.2, "no step");
  close(play(made, 256).left.at(-1), 0);
});

test("where a block is missing everything holds still together, the click too", () => {
  const made = mixer({ blocks: false });
  made.clicks({ samples: [10], kinds: [0], sounds: [new Float32Array([1])] });
  made.play({ at: 0 });
  assert.ok(play(made, 512).left.every((x) => x === 0));
  assert.equal(made.at, 0);
  assert.equal(made.waiting, true);
});

test("a click sounds on its own sample, at its level", () => {
  const made = mixer({ gains: [0] });
  made.clicks({ samples: [50, 700], kinds: [0, 1], sounds: [new Float32Array([1, 0.5]), new Float32Array([-1])] });
  made.clickLevel({ level: 0.8 });
  made.play({ at: 0 });
  const { left } = play(made, 1024);
  close(left[50], 0.8);
  close(left[51], 0.4);
  close(left[700], -0.8);
  assert.equal(left.filter((x) => x !== 0).length, 3);
});

test("seeking between clicks finds the next one", () => {
  const made = mixer({ gains: [0] });
  made.clicks({ samples: [50, 700], kinds: [0, 0], sounds: [new Float32Array([1])] });
  made.play({ at: 51 });
  const { left } = play(made, 1024);
  assert.equal(left.indexOf(1), 700 - 51);
});

test("a loop returns at its end to the sample, and its clicks come again", () => {
  const made = mixer({ total: 8192 });
  made.clicks({ samples: [2000], kinds: [0], sounds: [new Float32Array([9])] });
  made.setLoop({ loop: [2000, 3000] });
  made.play({ at: 2900 });
  const { left } = play(made, 256);
  close(left[100], 2 + 9); // the place the loop returns to, its click on it
  close(left[101], 2.001);
});

test("click in one ear, tracks in the other", () => {
  const made = mixer();
  made.clicks({ samples: [500], kinds: [0], sounds: [new Float32Array([1])] });
  made.setEars({ apart: true });
  made.play({ at: 450 });
  const { left, right } = play(made, 128);
  close(left[50], 1);
  close(left[51], 0);
  close(right[50], 0.5);
});

test("a count-in comes first, then the take from where it was asked", () => {
  const made = mixer();
  made.clicks({ samples: [], kinds: [], sounds: [new Float32Array([1])] });
  made.play({ at: 1000, lead: { samples: [0, 100], kinds: [0, 0], length: 200 } });
  const { left } = play(made, 512);
  close(left[0], 1);
  close(left[100], 1);
  close(left[199], 0);
  close(left[200], 1.0);
  close(left[201], 1.001);
});

test("the end is told once and stops it", () => {
  const made = mixer({ total: 1000 });
  made.play({ at: 900 });
  play(made, 512);
  assert.equal(made.playing, false);
  assert.equal(made.port.told.filter((t) => t.what === "ended").length, 1);
});

test("slow playback takes as much longer as it says", () => {
  const made = mixer({ total: 48_000, size: 4096 });
  made.setPace({ pace: 0.5 });
  made.play({ at: 0 });
  play(made, 12_800);
  assert.ok(Math.abs(made.at - 6400) <= 1, `${made.at}`);
});

test("pan turns one side down, mono puts both in the middle", () => {
  const made = mixer({ gains: [1] });
  made.layout({ tracks: [{ channels: 1, gain: [1, 0.25] }], size: 1024, total: 4096 });
  for (let n = 0; n < 4; n++) made.block({ number: n, data: new Float32Array(1024).fill(0.8).buffer });
  made.play({});
  const { left, right } = play(made, 256);
  assert.ok(Math.abs(left[10] - 0.8) < 1e-6 && Math.abs(right[10] - 0.2) < 1e-6);
  made.setMono({ mono: true });
  const { left: l, right: r } = play(made, 128);
  assert.ok(Math.abs(l[10] - 0.5) < 1e-6 && Math.abs(r[10] - 0.5) < 1e-6);
});
