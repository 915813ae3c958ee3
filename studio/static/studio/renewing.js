// @ts-check
// A part of the page that comes anew is made over instead of replaced: what has the focus, what is being typed and a
// press of the mouse that is under way survive it.

/** What scripts set; the server knows nothing of it. */
const OURS = new Set(["hidden", "open", "aria-selected"]);

const { Idiomorph } = globalThis;

Object.assign(Idiomorph.defaults, { ignoreActiveValue: true });
Object.assign(Idiomorph.defaults.callbacks, {
  // what a script fills in is left as it is
  beforeNodeMorphed: (before) => before.dataset?.filled === undefined,
  beforeAttributeUpdated: (name, _element, change) => !(change === "remove" && OURS.has(name)),
});

/**
 * Make the content of a box over to `html`.
 * @param {Element} box
 * @param {string} html
 */
export function renew(box, html) {
  Idiomorph.morph(box, html, { morphStyle: "innerHTML" });
}
