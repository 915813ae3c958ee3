import assert from "node:assert/strict";
import { test } from "node:test";

import { matching } from "../../studio/desk/static/desk/command_search.js";
import { read, written } from "../../studio/desk/static/desk/place.js";

test("a place comes back from its address", () => {
  const hash = written({ stage: "check", pane: "steps", at: 12.3456, start: 10, spp: 64 });
  assert.deepEqual(read(`#${hash}`), { stage: "check", pane: "steps", at: 12.346, from: 10, zoom: 64, bar: null });
});

test("what an address cannot mean is left out", () => {
  const asked = read("#at=-4&zoom=NaN&from=x&bar=2.5&stage=");
  assert.deepEqual(asked, { stage: "", pane: null, at: null, from: null, zoom: null, bar: null });
  assert.equal(read("#bar=-1").bar, -1);
});

test("commands are found by the beginnings of their words, in any order", () => {
  const entries = [
    { name: "half", words: "Half the tempo", group: "Stretch, or whole map", keys: ["h"] },
    { name: "pin", words: "Pin the beat, or unpin it", group: "Beat", keys: ["p"] },
    { name: "tap", words: "Tap the beats", group: "Beat", keys: ["t"] },
  ];
  const names = (typed) => matching(entries, typed).map((e) => e.name);
  assert.deepEqual(names("tempo ha"), ["half"]);
  assert.deepEqual(names("bea"), ["pin", "tap"]);
  assert.deepEqual(names("T"), ["tap", "half", "pin"]);
  assert.deepEqual(names("in"), []);
  assert.equal(names("").length, 3);
});
