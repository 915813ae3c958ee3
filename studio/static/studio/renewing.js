// @ts-check
// When part of the page is loaded again, its elements are updated in place instead of replaced, so that the focus, typed
// text and a mouse button held down are not lost.

/** Attributes that only scripts set; the server never sends them. */
const OURS = new Set(["hidden", "open", "aria-selected"]);

const { Idiomorph } = globalThis;

/** Forms in which something was chosen or typed and that were not sent yet: their fields stay as they are. */
const begun = new WeakSet();
const formOf = (target) => /** @type {HTMLFormElement | null} */ (target instanceof Element && target.closest("form"));
document.addEventListener("input", (e) => {
  const form = formOf(e.target);
  if (form?.querySelector("button:not([type=button])")) begun.add(form);
});
for (const sent of ["submit", "reset"])
  document.addEventListener(sent, (e) => e.target instanceof HTMLFormElement && begun.delete(e.target));
const isBegun = (field) => field.matches?.("input, select, textarea, output") && begun.has(formOf(field));

/** Fields that were changed and whose request has to wait for another: they keep what they hold until it is sent. */
const waiting = new WeakSet();
const HELD = new Set(["value", "checked"]);
document.addEventListener(
  "change",
  (e) => e.target instanceof Element && e.target.matches("[hx-post]") && waiting.add(e.target),
  true,
);
document.addEventListener("htmx:beforeSend", (e) => waiting.delete(/** @type {CustomEvent} */ (e).detail.elt));

/** What is being written stays; a focused button takes its new words. */
Object.defineProperty(Idiomorph.defaults, "ignoreActiveValue", {
  get: () => !document.activeElement?.matches("button, a, summary"),
  enumerable: true,
});
Object.assign(Idiomorph.defaults.callbacks, {
  // elements that a script fills keep their content
  beforeNodeMorphed: (before) => before.dataset?.filled === undefined && !isBegun(before),
  beforeAttributeUpdated: (name, element, change) =>
    !(change === "remove" && OURS.has(name)) && !(HELD.has(name) && waiting.has(element)),
});

/**
 * Update the content of a box to `html`.
 * @param {Element} box
 * @param {string} html
 */
export function renew(box, html) {
  Idiomorph.morph(box, html, { morphStyle: "innerHTML" });
}
