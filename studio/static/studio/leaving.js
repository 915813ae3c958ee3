// @ts-check
// The page goes on to another one, or loads itself again, without being asked to: bad notes that nobody closed come along.

import { note } from "./server.js";

const KEPT = "notes";

function keepNotes() {
  const told = [...document.querySelectorAll("#notes .bad > span")].map((n) => n.textContent);
  if (told.length) sessionStorage.setItem(KEPT, JSON.stringify(told));
}

/** @param {string} url */
export function goTo(url) {
  keepNotes();
  location.href = url;
}

export function loadAgain() {
  keepNotes();
  location.reload();
}

for (const text of JSON.parse(sessionStorage.getItem(KEPT) ?? "[]")) note(text, true);
sessionStorage.removeItem(KEPT);
