// @ts-check
// Arrow keys in tabs and radio groups, as screen readers' users know them (WAI-ARIA Authoring Practices), and Space on a
// button that was reached by keyboard.

let byKey = false;
addEventListener("keydown", () => (byKey = true), true);
addEventListener("pointerdown", () => (byKey = false), true);

/** What has the focus, if a key brought it there: a button that was clicked keeps the focus, but Space goes on to play. */
let reached = null;
document.addEventListener("focusin", (e) => (reached = byKey ? e.target : null));

/** Whether Space presses what has the focus. */
export const takesSpace = (target) =>
  target === reached && target.matches?.("button, summary, a, [role=tab], [role=radio]");

const STEPS = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 };

/** Go to the next of a row of tabs or radio buttons, and choose it. */
function rove(e) {
  const own = e.target.closest?.("[role=tab], [role=radio]");
  const step = STEPS[e.key];
  if (!own || own !== reached || e.ctrlKey || e.metaKey || e.altKey || e.shiftKey) return;
  const row = own.closest("[role=tablist], [role=radiogroup]");
  const all = [...(row?.querySelectorAll("[role=tab], [role=radio]") ?? [])].filter((b) => b.offsetParent);
  const to =
    e.key === "Home" ? all[0] : e.key === "End" ? all.at(-1) : step && all.at((all.indexOf(own) + step) % all.length);
  if (!to) return;
  e.preventDefault();
  e.stopImmediatePropagation();
  to.focus();
  to.click();
}
addEventListener("keydown", rove, true);
