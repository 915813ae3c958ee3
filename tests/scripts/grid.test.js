// Looking up bars and beats that the server sent.

import assert from "node:assert/strict";
import { test } from "node:test";

import { Grid } from "../../studio/desk/static/desk/grid.js";
import { Viewport } from "../../studio/desk/static/desk/viewport.js";

/** 40 beats, half a second apart from second 1 on, in fours, after a pickup of one. */
const data = () => ({
  time: Array.from({ length: 40 }, (_, i) => 1 + i / 2),
  bar: Array.from({ length: 40 }, (_, i) => Math.floor((i + 3) / 4)),
  beat: Array.from({ length: 40 }, (_, i) => ((i + 3) % 4) + 1),
  bpm: Array(40).fill(120),
  first: -1,
  pins: [3],
  meters: [{ bar: 1, time: 1.5, text: "4/4" }],
});

test("the first beat at or after a time, and the nearest", () => {
  const grid = Grid.of(data());
  assert.equal(grid.at(0), 0);
  assert.equal(grid.at(1.5), 1);
  assert.equal(grid.at(1.51), 2);
  assert.equal(grid.at(99), 40);
  assert.equal(grid.nearest(1.7), 1);
  assert.equal(grid.nearest(1.8), 2);
  assert.equal(grid.nearest(-3), 0);
  assert.equal(grid.nearest(99), 39);
});

test("a beat sounds from its own sample on", () => {
  const grid = Grid.of(data());
  assert.equal(grid.sounding(0.9), -1);
  assert.equal(grid.sounding(1), 0);
  assert.equal(grid.sounding(1.5 - 1 / 96_000), 1); // the player stands on whole samples
  assert.equal(grid.sounding(1.4), 0);
});

test("places and felt-beat indices convert both ways, and pins go by index", () => {
  const grid = Grid.of(data());
  assert.equal(grid.index(0), -1);
  assert.equal(grid.place(grid.index(17)), 17);
  assert.equal(grid.isPinned(4), true);
  assert.equal(grid.isPinned(3), false);
});

test("a bar is found from any of its beats", () => {
  const grid = Grid.of(data());
  for (const place of [1, 2, 3, 4]) assert.deepEqual(grid.bar_around(place), [1, 5]);
  assert.deepEqual(grid.bar_around(0), [0, 1]);
});

test("the last beat ends by its tempo", () => {
  const grid = Grid.of(data());
  assert.equal(grid.end(0), 1.5);
  assert.equal(grid.end(39), grid.time[39] + 0.5);
});

test("a change replaces what it names and leaves the grid it came from alone", () => {
  const base = Grid.of(data());
  const changed = Grid.of({ from: 5, time: [3.51, 4.02], bpm: [118, 121], pins: [4], meters: base.meters }, base);
  assert.deepEqual(changed.time.slice(4, 8), [3, 3.51, 4.02, 4.5]);
  assert.equal(changed.bpm[5], 118);
  assert.equal(base.time[5], 3.5);
  assert.equal(changed.isPinned(5), true);
  assert.equal(changed.first, base.first);
});

test("a chosen beat is found again by its time, else by its index", () => {
  const base = Grid.of(data());
  const later = Grid.of({ ...data(), first: 0 }); // counted one higher, none moved
  assert.equal(later.still(5, base.time[base.place(5)]), 6);
  assert.equal(later.still(5, 99.9), 5);
  assert.equal(later.still(500, undefined), null);
});

test("lines crowd no screen: bars are thinned by powers of two", () => {
  const grid = Grid.of({ ...data(), bar: data().bar });
  const view = new Viewport(48_000, 22);
  view.resize(60);
  assert.ok(grid.thinning(view, 7) > 1);
  const drawn = [];
  grid.lines(view, (place, x, isBar) => drawn.push([place, x, isBar]));
  assert.ok(drawn.every(([, , isBar]) => isBar));
  view.resize(2000);
  assert.equal(grid.thinning(view, 7), 1);
  drawn.length = 0;
  grid.lines(view, (place) => drawn.push(place));
  assert.equal(drawn.length, 40);
});

test("the tempo scale leaves out one stray in a hundred", () => {
  const bpm = Array(100).fill(120);
  bpm[20] = 480;
  const [low, high] = Grid.of({ ...data(), bpm }).usualTempos;
  assert.ok(low < 120 && high > 120 && high < 130, `${low} ${high}`);
});
