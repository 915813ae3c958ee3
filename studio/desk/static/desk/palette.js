// @ts-check
// The colours of theme.css as the canvases use them.

const USUAL = {
  ink: "#22262e",
  wave: "#52627a",
  faint: "#b3a993",
  faded: "#5f5a50",
  rule: "#d8ccb6",
  beat: "rgba(34, 38, 46, 0.26)",
  bar: "#9a3324",
  pin: "#1f655a",
  paper: "#f7f2e8",
  sheet: "#fdfaf3",
  shade: "#eee6d6",
  loop: "rgba(31, 101, 90, 0.14)",
  changed: "rgba(125, 83, 12, 0.16)",
};
const STRONG = {
  ink: "#000000",
  wave: "#1d3050",
  faint: "#8a857a",
  faded: "#2e2b26",
  rule: "#6f6a5f",
  beat: "rgba(0, 0, 0, 0.55)",
  bar: "#7d1200",
  pin: "#00493f",
  paper: "#ffffff",
  sheet: "#ffffff",
  shade: "#e9e9e6",
  loop: "rgba(0, 73, 63, 0.22)",
  changed: "rgba(87, 55, 0, 0.28)",
};
export const INK = {};

/** Draw in strong contrast from now on, or as usual; kept for this machine. */
export function setContrast(strong) {
  Object.assign(INK, strong ? STRONG : USUAL);
  document.documentElement.dataset.contrast = strong ? "strong" : "usual";
  localStorage.setItem("contrast", strong ? "strong" : "usual");
}
export const isStrong = () => document.documentElement.dataset.contrast === "strong";
setContrast(isStrong());
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
