import assert from "node:assert/strict";
import { test } from "node:test";

import { samePlace } from "../../studio/reshaping/static/reshaping/places.js";

const played = { time: [1, 1.6, 2, 2.7] };
const steady = { time: [1, 1.5, 2, 2.5] };

test("a beat goes to its beat, what lies between keeps its share", () => {
  assert.equal(samePlace(played, steady, 1.6), 1.5);
  assert.ok(Math.abs(samePlace(played, steady, 1.8) - 1.75) < 1e-12);
});

test("before the first and after the last beat both clocks run alike", () => {
  assert.equal(samePlace(played, steady, 0.4), 0.4);
  assert.ok(Math.abs(samePlace(played, steady, 3.7) - 3.5) < 1e-12);
});

test("there and back is the same place", () => {
  for (const t of [0, 1.1, 1.99, 2.5, 4])
    assert.ok(Math.abs(samePlace(steady, played, samePlace(played, steady, t)) - t) < 1e-12);
});

test("without a map the seconds stay", () => {
  assert.equal(samePlace(null, steady, 2.2), 2.2);
});
