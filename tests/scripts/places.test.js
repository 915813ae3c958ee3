import assert from "node:assert/strict";
import { test } from "node:test";

import { place } from "../../studio/reshaping/static/reshaping/places.js";

const clock = { source_sec: [1, 1.6, 2, 2.7], target_sec: [3, 3.5, 4, 4.5] };

test("an anchor goes to its anchor, what lies between keeps its share", () => {
  assert.equal(place(clock, 1.6), 3.5);
  assert.ok(Math.abs(place(clock, 1.8) - 3.75) < 1e-12);
});

test("before the first and after the last anchor the recording keeps its pace", () => {
  assert.ok(Math.abs(place(clock, 0.4) - 2.4) < 1e-12);
  assert.ok(Math.abs(place(clock, 3.7) - 5.5) < 1e-12);
});

test("there and back is the same place", () => {
  for (const t of [0, 1.1, 1.99, 2.5, 4]) assert.ok(Math.abs(place(clock, place(clock, t), true) - t) < 1e-12);
});

test("without a clock the seconds stay", () => {
  assert.equal(place(null, 2.2), 2.2);
});
