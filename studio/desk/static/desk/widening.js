// @ts-check
// The side panel's width: dragged at its edge, or by the arrow keys there; kept for this browser.

const LEAST = 226;
const STEP = 24;

export function widening() {
  const handle = document.getElementById("widen");
  const root = document.documentElement;
  const most = () => Math.round(innerWidth * 0.6);
  const width = () => document.querySelector(".side").getBoundingClientRect().width;
  const tell = () => {
    handle.setAttribute("aria-valuenow", Math.round(width()));
    handle.setAttribute("aria-valuemax", most());
  };
  const set = (pixels) => {
    const to = Math.round(Math.min(Math.max(pixels, LEAST), most()));
    root.style.setProperty("--side", `${to}px`);
    localStorage.setItem("side", String(to));
    tell();
  };
  const kept = Number(localStorage.getItem("side"));
  if (kept) set(kept);
  tell();
  handle.addEventListener("pointerdown", (down) => {
    handle.setPointerCapture(down.pointerId);
    const move = (e) => set(innerWidth - e.clientX);
    handle.addEventListener("pointermove", move);
    handle.addEventListener("lostpointercapture", () => handle.removeEventListener("pointermove", move), {
      once: true,
    });
  });
  handle.addEventListener("keydown", (e) => {
    const by = { ArrowLeft: STEP, ArrowRight: -STEP }[e.key];
    if (e.key === "Home") set(LEAST);
    else if (e.key === "End") set(most());
    else if (by) set(width() + by);
    else return;
    e.preventDefault();
    e.stopPropagation();
  });
  addEventListener("resize", tell);
}
