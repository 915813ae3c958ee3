// @ts-check
import assert from "node:assert/strict";
import { test } from "node:test";

import { shownKey } from "../../studio/desk/static/desk/key_list.js";
import { canBeTaken, keepKeys, keyOf, readKeys, withKey } from "../../studio/desk/static/desk/own_keys.js";

const USUAL = { play: [" "], next: ["j"], last: ["k"], redo: ["Ctrl+Shift+Z", "Ctrl+y"] };
const event = (key, more = {}) => ({ key, shiftKey: false, ctrlKey: false, metaKey: false, ...more });

/** @returns {Storage} */
function storage() {
  const kept = new Map();
  return /** @type {any} */ ({
    getItem: (k) => kept.get(k) ?? null,
    setItem: (k, v) => kept.set(k, v),
    removeItem: (k) => kept.delete(k),
  });
}

test("keys are written as commands have them", () => {
  assert.equal(keyOf(event("j")), "j");
  assert.equal(keyOf(event("J", { shiftKey: true })), "Shift+J");
  assert.equal(keyOf(event("?", { shiftKey: true })), "?"); // on Shift or not, as the keyboard has it
  assert.equal(keyOf(event("ArrowLeft", { ctrlKey: true })), "Ctrl+ArrowLeft");
  assert.equal(keyOf(event("z", { metaKey: true })), "Ctrl+z");
  assert.equal(shownKey("Ctrl+Shift+Z"), "Ctrl Shift Z");
  assert.equal(shownKey("Shift+ArrowLeft"), "Shift ←");
  assert.equal(shownKey("+"), "+");
  assert.equal(shownKey("Ctrl++"), "Ctrl +");
  for (const key of ["Tab", "Escape", "Shift", "Ctrl+Tab"]) assert.equal(canBeTaken(key), false, key);
  for (const key of ["Delete", "a", "F9", "Ctrl+k"]) assert.equal(canBeTaken(key), true, key);
});

test("a key that another command had is that command's no more", () => {
  const { keys, from } = withKey(USUAL, "next", "j", "k");
  assert.deepEqual([keys.next, keys.last, from], [["k"], [], "last"]);
  assert.deepEqual(USUAL.last, ["k"]);
  assert.deepEqual(withKey(USUAL, "redo", "Ctrl+y", "r").keys.redo, ["Ctrl+Shift+Z", "r"]);
  assert.deepEqual(withKey(USUAL, "redo", "Ctrl+y", "Ctrl+Shift+Z").keys.redo, ["Ctrl+Shift+Z"]);
  assert.deepEqual(withKey(keys, "last", null, "l").keys.last, ["l"]);
  assert.deepEqual(withKey(USUAL, "next", "j", null).keys.next, []);
});

test("only what was changed is kept, and what makes no sense is forgotten", () => {
  const kept = storage();
  keepKeys(USUAL, withKey(USUAL, "next", "j", "k").keys, kept);
  assert.deepEqual(JSON.parse(kept.getItem("own-keys") ?? ""), { next: ["k"], last: [] });
  assert.deepEqual(readKeys(USUAL, kept), { ...USUAL, next: ["k"], last: [] });
  keepKeys(USUAL, USUAL, kept);
  assert.equal(kept.getItem("own-keys"), null);
  for (const broken of ["no table", '{"gone": ["x"], "next": 4}', "null"]) {
    kept.setItem("own-keys", broken);
    assert.deepEqual(readKeys(USUAL, kept), USUAL, broken);
  }
});
