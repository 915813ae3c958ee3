// Stepping by hits: attacks of several tracks close together are one, at the strongest of them.

import assert from "node:assert/strict";
import { test } from "node:test";
import { nearestAttack, nextHit } from "../../studio/desk/static/desk/hits.js";

// a kick, and what spills of it into the snare's microphone; at 2 s a snare with its spill in the kick's
const tracks = [
  { seconds: [1, 2.006, 3], strength: [0.9, 0.35, 0.9], least: 0.25 },
  { seconds: [1.004, 2, 2.5], strength: [0.4, 0.95, 0.1], least: 0.25 },
];

test("a hit is one step forwards and one step back", () => {
  const steps = (from, by) => {
    const passed = [];
    for (let at = nextHit(tracks, from, by); at !== null; at = nextHit(tracks, at, by)) passed.push(at);
    return passed;
  };
  assert.deepEqual(steps(0, 1), [1, 2, 3]);
  assert.deepEqual(steps(9, -1), [3, 2, 1]);
});

test("from within a hit one goes on to the next, and back to where it started", () => {
  assert.equal(nextHit(tracks, 1.004, 1), 2);
  assert.equal(nextHit(tracks, 2.006, -1), 2);
});

test("the nearest attack of any track, within reach", () => {
  assert.equal(nearestAttack(tracks, 2.02, 0.05), 2.006);
  assert.equal(nearestAttack(tracks, 1.5, 0.05), undefined);
});
