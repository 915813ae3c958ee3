// Levels, mutes and solos, on the table that the core is tested on too.

import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { test } from "node:test";

import { factors } from "../../studio/desk/static/desk/levels.js";

test("the shared table", () => {
  for (const { lanes, factors: wanted } of JSON.parse(
    readFileSync(new URL("../levels.json", import.meta.url), "utf8"),
  )) {
    const got = factors(lanes.map(([gain, muted, solo]) => ({ gain, muted, solo })));
    got.forEach((x, i) => assert.ok(Math.abs(x - wanted[i]) < 1e-12));
    assert.equal(got.length, wanted.length);
  }
});
