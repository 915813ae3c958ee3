import assert from "node:assert/strict";
import { test } from "node:test";

import { AHEAD, CEILING, Limiter } from "../../studio/desk/static/desk/limiter.js";

function run(left, right = left) {
  const limiter = new Limiter();
  const out = [Float32Array.from(left), Float32Array.from(right)];
  for (let i = 0; i < left.length; i += 128) limiter.process(out[0].subarray(i, i + 128), out[1].subarray(i, i + 128));
  return { limiter, out };
}

/** Numbers that are the same every time. */
function noise(count, level, seed = 1) {
  let s = seed;
  return Float32Array.from({ length: count }, () => {
    s = (s * 1103515245 + 12345) % 2147483648;
    return level * (s / 1073741824 - 1);
  });
}

test("what is not too loud passes unchanged, a moment later", () => {
  const x = noise(4096, 0.9);
  const { limiter, out } = run(x);
  assert.deepEqual(out[0].subarray(AHEAD), x.subarray(0, x.length - AHEAD));
  assert.equal(limiter.reduction(), 0);
});

test("nothing gets over the ceiling, however loud and sudden it is", () => {
  for (const level of [1.1, 2, 8]) {
    const x = noise(48_000, level, 7);
    for (let i = 0; i < x.length; i++) if (i % 5000 > 700) x[i] *= 0.02; // bursts out of near silence
    const { out } = run(x, noise(48_000, level / 2, 9));
    for (const side of out) for (const v of side) assert.ok(Math.abs(v) <= CEILING + 1e-6, `${v} at level ${level}`);
  }
});

test("it turns down gently, tells by how much, and comes back", () => {
  const x = new Float32Array(96_000).fill(0.5);
  for (let i = 20_000; i < 20_200; i++) x[i] = 1.96; // twice the ceiling
  const { limiter, out } = run(x);
  let steepest = 0;
  for (let i = 19_000; i < 19_990; i++) steepest = Math.max(steepest, Math.abs(out[0][i + 1] - out[0][i]));
  assert.ok(steepest < 0.02, "no step before the peak");
  assert.ok(Math.abs(limiter.reduction() + 6.02) < 0.1);
  assert.ok(Math.abs(out[0].at(-1) - 0.5) < 1e-4);
});

test("both sides are turned down alike, so that the picture stays", () => {
  const left = new Float32Array(4000).fill(1.6);
  const { out } = run(left, new Float32Array(4000).fill(0.4));
  for (let i = 500; i < 4000; i++) assert.ok(Math.abs(out[0][i] / out[1][i] - 4) < 1e-5);
});
