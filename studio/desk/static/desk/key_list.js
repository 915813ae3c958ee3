// @ts-check
// The list of all keys: each can be changed by pressing it and then the key that is wanted.

import { canBeTaken, keyOf, withKey } from "./own_keys.js";

const SHOWN = {
  " ": "Space",
  ArrowLeft: "←",
  ArrowRight: "→",
  ArrowUp: "↑",
  ArrowDown: "↓",
  Escape: "Esc",
  Delete: "Del",
  Backspace: "⌫",
};

/** A key as it is written on the page: "Ctrl+z" is Ctrl Z.
 * @param {string} key */
export function shownKey(key) {
  const [, mods, last] = /** @type {RegExpMatchArray} */ (key.match(/^((?:Ctrl\+|Shift\+)*)(.*)$/su));
  return mods.replaceAll("+", " ") + (SHOWN[last] ?? (last.length === 1 ? last.toUpperCase() : last));
}

/**
 * @typedef {{name: string, words: string, group: string}} Command
 * @typedef {{keys: () => import("./own_keys.js").Keys, set: (keys: import("./own_keys.js").Keys) => void, reset: () => void}} Table
 */

/**
 * Draw the list and let its keys be changed.
 * @param {Command[]} commands
 * @param {Table} table
 */
export function keyList(commands, table) {
  const list = /** @type {HTMLElement} */ (document.getElementById("keys"));
  const told = /** @type {HTMLElement} */ (document.getElementById("keys-told"));
  const words = Object.fromEntries(commands.map((c) => [c.name, c.words]));
  /** @type {{name: string, key: string | null, button: HTMLButtonElement} | null} */
  let waiting = null;

  const cap = (name, key) => {
    const button = document.createElement("button");
    button.type = "button";
    button.className = key === null ? "keycap none" : "keycap";
    button.textContent = key === null ? "none" : shownKey(key);
    button.title = `Change the key of “${words[name]}”`;
    button.onclick = () => {
      leave();
      waiting = { name, key, button };
      button.setAttribute("aria-pressed", "true");
      told.textContent = `Press the new key for “${words[name]}”. Backspace takes the key away, Esc leaves it as it is.`;
    };
    return button;
  };
  const draw = () => {
    const keys = table.keys();
    const groups = [...new Set(commands.map((c) => c.group))];
    list.replaceChildren(
      ...groups.map((group) => {
        const part = document.createElement("div");
        const dl = document.createElement("dl");
        for (const c of commands.filter((one) => one.group === group)) {
          const dt = document.createElement("dt");
          const own = keys[c.name].length ? keys[c.name] : [null];
          dt.append(...own.flatMap((k) => [cap(c.name, k), " "]));
          dl.append(dt, Object.assign(document.createElement("dd"), { textContent: c.words }));
        }
        part.append(Object.assign(document.createElement("h3"), { textContent: group }), dl);
        return part;
      }),
    );
  };
  const leave = () => {
    waiting?.button.removeAttribute("aria-pressed");
    waiting = null;
    told.textContent = "";
  };
  const take = (key) => {
    if (!waiting) return;
    const { name, key: old } = waiting;
    const change = withKey(table.keys(), name, old, key);
    table.set(change.keys);
    leave();
    draw();
    const lost = change.from && !change.keys[change.from].length ? `, which has no key now` : "";
    told.textContent =
      key === null
        ? `“${words[name]}” has this key no more.`
        : `${shownKey(key)}: “${words[name]}”${change.from ? `. It was “${words[change.from]}”${lost}` : ""}.`;
    const again = [...list.querySelectorAll("button")].find((b) => b.title.includes(`“${words[name]}”`));
    again?.focus();
  };
  const dialog = /** @type {HTMLDialogElement} */ (list.closest("dialog"));
  dialog.addEventListener("keydown", (e) => {
    if (!waiting || ["Shift", "Control", "Alt", "Meta"].includes(e.key)) return;
    if (e.key === "Tab") return leave();
    e.preventDefault();
    e.stopPropagation();
    if (e.key === "Escape") return leave();
    if (e.key === "Backspace" && waiting.key !== "Backspace") return take(null);
    const key = keyOf(e);
    if (canBeTaken(key)) return take(key);
    told.textContent = `${shownKey(key)} cannot be a command's key. Press another.`;
    return undefined;
  });
  dialog.addEventListener("close", leave);
  document.getElementById("keys-usual")?.addEventListener("click", () => {
    table.reset();
    leave();
    draw();
    told.textContent = "All keys are as they come.";
  });
  draw();
}
