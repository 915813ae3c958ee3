// @ts-check
// The colours of colours.css as the canvases use them.

/** What canvases call them, and the variables behind that. */
const NAMES = {
  ink: "ink",
  wave: "wave",
  faint: "faint",
  faded: "faded",
  rule: "rule",
  bar: "madder",
  pin: "verdigris",
  warning: "ochre",
  amber: "amber",
  violet: "violet",
  paper: "paper",
  sheet: "sheet",
  shade: "shade",
  loop: "loop",
  changed: "changed",
};
/** @type {Record<keyof typeof NAMES, string>} */
export const INK = { ...NAMES };

/** Take the colours from the styles, again whenever light, dark or contrast changes. */
function readColours() {
  const style = getComputedStyle(document.documentElement);
  for (const [name, variable] of Object.entries(NAMES)) INK[name] = style.getPropertyValue(`--${variable}`).trim();
}
if (globalThis.document) {
  readColours();
  document.addEventListener("look", readColours);
}
export const SANS = '"Source Sans 3", sans-serif';
export const SERIF = '"Newsreader", serif';

/** A canvas sized to its box in device pixels; returns the context in CSS pixels, cleared. */
export function fresh(canvas) {
  const ratio = devicePixelRatio || 1;
  const { clientWidth: width, clientHeight: height } = canvas;
  if (canvas.width !== Math.round(width * ratio) || canvas.height !== Math.round(height * ratio)) {
    canvas.width = Math.round(width * ratio);
    canvas.height = Math.round(height * ratio);
  }
  const context = canvas.getContext("2d", { alpha: false }); // they are filled from edge to edge
  context.setTransform(ratio, 0, 0, ratio, 0, 0);
  context.clearRect(0, 0, width, height);
  return { context, width, height, ratio };
}
