// @ts-check
// What must not get lost is sent until the server has answered: levels, mutes, what was played in. Until then the page
// says that it is not saved.

import { note, send } from "./server.js";

/** Milliseconds until it is sent again. */
const AGAIN = 1500;
/** Status codes after which a change is sent again, and the reason to show. */
const NOT_NOW = new Map([
  [0, "The server does not answer."],
  [503, "The database is busy."],
  [507, "The disk is full: free some space."],
]);

/** @typedef {{ url: string, data: object, answered: (answer: any) => void, promise: Promise<any> }} Letter */

/** @type {Map<string, Letter>} what waits, by what it is about */
const waiting = new Map();
/** @type {Set<string>} what is under way now */
const underWay = new Set();
/** @type {HTMLElement | undefined} */
let told;

/**
 * Send JSON as soon as the server answers. Changes of the same thing that wait become one: the last value counts.
 * @param {string} url
 * @param {object} data
 * @param {string} [about] what it changes; by default what the address names
 * @returns {Promise<{ok: boolean, status: number, data: any}>}
 */
export function post(url, data, about = url) {
  const had = waiting.get(about);
  if (had) {
    Object.assign(had.data, data);
    return had.promise;
  }
  /** @type {(answer: any) => void} */
  let answered = () => {};
  const promise = new Promise((done) => (answered = done));
  waiting.set(about, { url, data: { ...data }, answered, promise });
  deliver(about);
  return promise;
}

/** How many changes the server does not have yet. */
export const unsent = () => new Set([...waiting.keys(), ...underWay]).size;

async function deliver(about) {
  const letter = waiting.get(about);
  if (!letter || underWay.has(about)) return;
  waiting.delete(about); // what changes from here on is another letter
  underWay.add(about);
  const answer = await send(letter.url, letter.data);
  underWay.delete(about);
  if (NOT_NOW.has(answer.status)) {
    const newer = waiting.get(about);
    waiting.set(about, { ...letter, data: { ...letter.data, ...newer?.data } });
    if (newer) letter.promise.then(newer.answered);
    tell(NOT_NOW.get(answer.status));
    setTimeout(() => deliver(about), AGAIN);
    return;
  }
  if (!answer.ok) note(answer.data.error ?? "That could not be saved.", true);
  letter.answered(answer);
  tell();
  deliver(about);
}

function tell(why = "") {
  const count = unsent();
  document.body.dataset.unsent = String(count);
  if (count && why && !told) told = note(`${why} What you change is kept here and sent again until it is saved.`, true);
  if (!count) {
    told?.remove();
    told = undefined;
  }
}

addEventListener("beforeunload", (e) => {
  if (unsent()) e.preventDefault();
});
