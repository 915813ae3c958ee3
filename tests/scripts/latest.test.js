import assert from "node:assert/strict";
import test from "node:test";

const { isOvertaken, Latest, underWay } = await import("../../studio/static/studio/server.js");

/** Requests wait until they are answered by the test. */
function server() {
  const open = [];
  globalThis.fetch = () =>
    new Promise((answer, fail) =>
      open.push({ answer: (data) => answer({ ok: true, json: async () => data }), break: () => fail(new Error()) }),
    );
  return open;
}

test("only the latest question is answered, whatever order answers come in", async () => {
  const open = server();
  const latest = new Latest();
  const [first, second] = [latest.read("/a"), latest.read("/a")];
  open[1].answer({ step: 2 });
  open[0].answer({ step: 1 });
  assert.equal(await first, undefined);
  assert.deepEqual(await second, { step: 2 });
});

test("a change overtakes what was asked before it", async () => {
  const open = server();
  const latest = new Latest();
  const asked = latest.read("/a");
  latest.overtake();
  open[0].answer({ step: 1 });
  assert.equal(await asked, undefined);
});

test("a server that does not answer is told apart from an answer that was overtaken", async () => {
  const open = server();
  const asked = new Latest().read("/a");
  open[0].break();
  assert.equal(await asked, null);
});

test("a change overtakes what was asked before its answer, under way or done", async () => {
  const before = performance.now();
  assert.equal(isOvertaken(before), false);
  let done;
  const change = underWay(new Promise((resolve) => (done = resolve)));
  assert.equal(isOvertaken(performance.now()), true);
  done();
  await change;
  await new Promise((later) => setTimeout(later, 2));
  assert.equal(isOvertaken(before), true);
  assert.equal(isOvertaken(performance.now()), false);
});
