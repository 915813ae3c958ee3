// @ts-check
// Names that are changed where they stand: a press opens a field over them, Enter keeps, Esc leaves it.

import { sendForm } from "../studio/server.js";

/**
 * @param {HTMLElement} shown the button that shows the name
 * @param {() => string} now the name as it is
 * @param {(name: string) => unknown} keep called with a new name that is not empty
 */
export function editable(shown, now, keep) {
  shown.addEventListener("click", () => {
    if (shown.nextElementSibling?.matches(".naming")) return;
    const field = Object.assign(document.createElement("input"), { className: "field naming", value: now() });
    field.maxLength = 200;
    field.setAttribute("aria-label", `Name of ${now()}`);
    let over = false;
    const leave = (back) => {
      if (over) return;
      over = true;
      const name = field.value.trim();
      field.remove();
      shown.hidden = false;
      if (back) shown.focus();
      if (name && name !== now()) keep(name);
    };
    field.onkeydown = (e) => {
      if (e.key === "Escape") field.value = now();
      if (e.key === "Enter" || e.key === "Escape") {
        e.preventDefault(); // else the button that gets the focus is pressed by the same key
        e.stopPropagation();
        leave(true);
      }
    };
    field.onblur = () => leave(false);
    shown.hidden = true;
    shown.after(field);
    field.focus();
    field.select();
  });
}

/** The title of the session, in the head of the page.
 * @param {{id: number}} facts */
export function nameSession(facts) {
  const title = /** @type {HTMLElement} */ (document.getElementById("title"));
  const now = () => (title.textContent ?? "").trim();
  editable(title, now, async (name) => {
    const { ok } = await sendForm(`/sessions/${facts.id}`, { title: name });
    if (ok) showTitle(name);
  });
}

/** @param {string} name */
export function showTitle(name) {
  const title = /** @type {HTMLElement} */ (document.getElementById("title"));
  title.textContent = name;
  title.title = `${name}: press to rename`;
}
