// Which stretch of time is on screen.

import assert from "node:assert/strict";
import { test } from "node:test";

import { Viewport } from "../../studio/desk/static/desk/viewport.js";

const view = () => {
  const made = new Viewport(48_000, 200);
  made.resize(1000);
  return made;
};

test("a new view shows the whole take", () => {
  const v = view();
  assert.equal(v.start, 0);
  assert.ok(Math.abs(v.end - 200) < 1e-9);
});

test("pixels and seconds convert both ways", () => {
  const v = view();
  v.set(20, 512);
  for (const x of [0, 1, 333.5, 1000]) assert.ok(Math.abs(v.x(v.time(x)) - x) < 1e-6);
});

test("the take's ends bound it at every zoom", () => {
  const v = view();
  for (const [start, spp] of [
    [-5, 512],
    [500, 512],
    [199, 1],
    [0, 1e9],
    [10, 1e-9],
  ]) {
    v.set(start, spp);
    assert.ok(v.start >= 0 && v.end <= 200 + 2 * v.perPixel, `${start} ${spp}`);
    assert.ok(v.spp >= 1 / 24 && v.spp <= v.widest);
  }
});

test("zooming keeps the time under the pointer, to a pixel", () => {
  const v = view();
  v.set(60, 1024);
  for (const steps of [3, 5, -2, 8]) {
    const at = v.time(700);
    v.zoom(steps, 700);
    assert.ok(Math.abs(v.x(at) - 700) <= 1, `${steps}`);
  }
});

test("steps in and out come back to the same zoom", () => {
  const v = view();
  v.set(60, 1024);
  v.zoom(7);
  v.zoom(-7);
  assert.ok(Math.abs(v.spp - 1024) < 1e-9);
});

test("showing a time leaves the view alone where it is in sight", () => {
  const v = view();
  v.set(50, 512);
  const { start } = v;
  v.show(v.time(400));
  assert.equal(v.start, start);
  v.show(150);
  assert.ok(v.start < 150 && 150 < v.end);
});

test("every change is told once", () => {
  const v = view();
  let told = 0;
  v.addEventListener("change", () => told++);
  v.set(3);
  v.scrollBy(10);
  v.fit();
  assert.equal(told, 3);
});
