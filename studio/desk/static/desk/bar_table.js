// @ts-check
// The bars as a table. One change is sent at a time, as each makes a step after the one before it; whoever types faster
// loses nothing: a field that waits for its turn, and the one that is written in, keep what they hold.

import "../studio/renewing.js";

/** @type {Set<EventTarget | null>} fields that were changed and not sent yet */
const waiting = new Set();
document.addEventListener("change", (e) => waiting.add(e.target), true);
document.addEventListener("htmx:beforeSend", (e) => waiting.delete(/** @type {CustomEvent} */ (e).detail.elt));

const { callbacks } = globalThis.Idiomorph.defaults;
const usual = callbacks.beforeAttributeUpdated;
callbacks.beforeAttributeUpdated = (name, element, change) =>
  !(["value", "checked"].includes(name) && waiting.has(element)) && usual(name, element, change);
