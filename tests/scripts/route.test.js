// Where playing goes when it does not simply go on.

import assert from "node:assert/strict";
import { test } from "node:test";

import { Route } from "../../studio/desk/static/desk/route.js";

const turn = (start, end, more = {}) => ({
  start,
  end,
  bars: [(start + end) / 2, end],
  times: 1,
  hold: false,
  pace: 1,
  ...more,
});

/** Plays on from jump to jump: the places passed. */
function passed(route, count) {
  const out = [];
  let at = route.now.start;
  for (let i = 0; i < count; i++) {
    const jump = route.next(at);
    out.push([jump.at, jump.to]);
    if (jump.to === null) break;
    route.took(jump);
    at = jump.to;
  }
  return out;
}

test("without loop and order nothing jumps", () => assert.equal(new Route().next(5), null));

test("a loop goes back at its end, but not from behind it", () => {
  const route = new Route();
  route.loop = [100, 200];
  assert.deepEqual(route.next(150), { at: 200, to: 100 });
  assert.equal(route.next(201), null);
});

test("sections follow one another as often as they say, and then playing ends", () => {
  const route = new Route();
  route.begin([turn(0, 100, { times: 2 }), turn(300, 400)]);
  assert.deepEqual(passed(route, 9), [
    [100, 0],
    [100, 300],
    [400, null],
  ]);
});

test("a held section repeats until it is released, leaving at the next bar line", () => {
  const route = new Route();
  route.begin([turn(0, 100, { hold: true }), turn(300, 400)]);
  assert.deepEqual(passed(route, 3), [
    [100, 0],
    [100, 0],
    [100, 0],
  ]);
  route.release(20);
  assert.deepEqual(route.next(20), { at: 50, to: 300, item: 1, round: 0 });
  route.took(route.next(20));
  assert.equal(route.leaveAt, null);
});

test("released in its last bar, a section leaves at its end", () => {
  const route = new Route();
  route.begin([turn(0, 100, { hold: true }), turn(300, 400)]);
  route.release(99);
  assert.equal(route.next(99).at, 100);
});

test("a queued section comes next, once", () => {
  const route = new Route();
  route.begin([turn(0, 100), turn(300, 400), turn(600, 700)]);
  route.queue(2);
  const jump = route.next(10);
  assert.equal(jump.to, 600);
  route.took(jump);
  assert.equal(route.queued, null);
  assert.equal(route.following, undefined);
});

test("an order outranks a loop, and stopping it gives the loop back", () => {
  const route = new Route();
  route.loop = [0, 50];
  route.begin([turn(0, 100)]);
  assert.equal(route.next(10).at, 100);
  route.stop();
  assert.equal(route.next(10).at, 50);
});
