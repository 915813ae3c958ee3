// Waveforms drawn from peaks: what is drawn where, and that it is kept.

import assert from "node:assert/strict";
import { test } from "node:test";

const drawn = [];
globalThis.document = { documentElement: { dataset: {} }, addEventListener() {} };
globalThis.localStorage = { getItem: () => null, setItem() {} };
globalThis.getComputedStyle = () => ({ getPropertyValue: () => "#123456" });
globalThis.matchMedia = () => ({ matches: false, addEventListener() {} });
globalThis.OffscreenCanvas = class {
  constructor(width, height) {
    Object.assign(this, { width, height, rects: [] });
    drawn.push(this);
  }
  getContext() {
    return { fillRect: (...r) => this.rects.push(r), beginPath() {}, stroke() {}, moveTo() {}, lineTo() {}, rect() {} };
  }
  transferToImageBitmap() {
    return this;
  }
};
const { Waves } = await import("../../studio/desk/static/desk/waves.js");

const facts = { rate: 48_000, tile: 4096 };
const track = { id: 7, frames: 64 * 4096 };
/** One level of peaks, 64 samples a bin: bins rise from silence to full scale within 100 bins. */
const tiles = (there = true) => ({
  level: () => 64,
  get: () =>
    there && Int16Array.from({ length: 8192 }, (_, i) => (i % 2 ? 1 : -1) * Math.min(32_767, Math.floor(i / 2) * 328)),
});
const how = (more) => ({
  top: 0,
  width: 256,
  first: 0,
  spp: 64,
  height: 100,
  gain: 1,
  muted: false,
  budget: { ms: 50, ahead: 0 },
  ...more,
});
const screen = () => {
  const shown = [];
  return { shown, drawImage: (picture, x, y) => shown.push([picture, x, y]) };
};

test("a pixel reaches as far as its peaks, and never outside its lane", () => {
  drawn.length = 0;
  assert.equal(new Waves(tiles(), facts).draw(screen(), track, how()), true);
  const rects = drawn[0].rects;
  const [x, top, , tall] = rects[50];
  assert.equal(x, 50);
  assert.ok(Math.abs(tall - (2 * 50 * 50 * 328) / 32_767) < 1.5);
  assert.ok(Math.abs(top + tall / 2 - 50) < 1);
  assert.ok(rects.every(([, y, , h]) => y >= 0 && y + h <= 100));
});

test("what was drawn is copied, not drawn again", () => {
  drawn.length = 0;
  const waves = new Waves(tiles(), facts);
  waves.draw(screen(), track, how());
  const count = drawn.length;
  const again = screen();
  waves.draw(again, track, how());
  assert.equal(drawn.length, count);
  assert.equal(again.shown.length, 1);
});

test("another zoom, gain or colour is another picture", () => {
  drawn.length = 0;
  const waves = new Waves(tiles(), facts);
  for (const more of [{}, { spp: 128 }, { gain: 2 }, { height: 50 }]) waves.draw(screen(), track, how(more));
  assert.equal(drawn.length, 4);
});

test("missing tiles are told of, and forgetting them draws again", () => {
  drawn.length = 0;
  const waves = new Waves(tiles(false), facts);
  assert.equal(waves.draw(screen(), track, how()), false);
  waves.forget(7);
  waves.tiles = tiles();
  assert.equal(waves.draw(screen(), track, how()), true);
});

test("without time left nothing new is drawn", () => {
  drawn.length = 0;
  const seen = screen();
  assert.equal(new Waves(tiles(), facts).draw(seen, track, how({ budget: { ms: 0, ahead: 0 } })), false);
  assert.equal(drawn.length + seen.shown.length, 0);
});

test("the loudest track fills its lane, from there they are drawn higher or lower", () => {
  const of = (...peaks) => new Waves(tiles(), { ...facts, tracks: peaks.map((peak) => ({ peak })) });
  assert.equal(of(0.02, 0.125).gain, 8);
  assert.equal(of(1, 0.125).gain, 1);
  assert.equal(of(1.5).gain, 1); // over full scale: its top is cut off, as it is in what is played
  assert.equal(of(0.0001).gain, 32); // noise
  assert.equal(of(0).gain, 1);
  assert.equal(of().gain, 1);
  const waves = of(0.25);
  waves.heighten(2);
  assert.deepEqual([waves.gain, waves.fill], [8, 4]);
  for (let i = 0; i < 99; i++) waves.heighten(0.8);
  assert.equal(waves.gain, 1);
});
