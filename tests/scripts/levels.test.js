// Levels, mutes and solos, on the table that the core is tested on too.

import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { test } from "node:test";

import { factors, stereoFactors } from "../../studio/desk/static/desk/levels.js";

test("the shared table", () => {
  for (const { lanes, factors: wanted } of JSON.parse(
    readFileSync(new URL("../levels.json", import.meta.url), "utf8"),
  )) {
    const got = factors(lanes.map(([gain, muted, solo]) => ({ gain, muted, solo })));
    got.forEach((x, i) => assert.ok(Math.abs(x - wanted[i]) < 1e-12));
    assert.equal(got.length, wanted.length);
  }
});

test("the nearer side keeps its level", () => {
  const lane = { gain: 20 * Math.log10(0.5), muted: false, solo: false };
  const got = stereoFactors([-1, 0, 0.25].map((pan) => ({ ...lane, pan }))).flat();
  [0.5, 0, 0.5, 0.5, 0.375, 0.5].forEach((x, i) => assert.ok(Math.abs(got[i] - x) < 1e-12));
});
