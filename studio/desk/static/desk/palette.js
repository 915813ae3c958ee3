// The colours of theme.css as the canvases use them.

export const INK = {
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
  const context = canvas.getContext("2d");
  context.setTransform(ratio, 0, 0, ratio, 0, 0);
  context.clearRect(0, 0, width, height);
  return { context, width, height, ratio };
}
