// @ts-check
// All commands by words: type some, choose one, it is done. Beside the list of keys, for whoever knows what but not how.

/** @typedef {{name: string, words: string, group: string}} Entry */

/**
 * Commands in which every typed word begins some word, those whose words come in that order first.
 * @param {Entry[]} entries
 * @param {string} typed
 */
export function matching(entries, typed) {
  const wanted = typed.toLowerCase().split(/\s+/).filter(Boolean);
  const inside = (e) => `${e.words} ${e.group}`.toLowerCase().split(/[^\p{L}\p{N}:]+/u);
  const found = entries.filter((e) => wanted.every((w) => inside(e).some((own) => own.startsWith(w))));
  const begins = (e) => (e.words.toLowerCase().startsWith(typed.trim().toLowerCase()) ? 0 : 1);
  return found.toSorted((a, b) => begins(a) - begins(b));
}

/**
 * @param {Entry[]} entries
 * @param {(name: string) => void} run
 * @param {(name: string) => string[]} keysOf the keys of a command, as they are written
 */
export function commandSearch(entries, run, keysOf) {
  const dialog = /** @type {HTMLDialogElement} */ (document.getElementById("command-search"));
  const input = /** @type {HTMLInputElement} */ (dialog.querySelector("input"));
  const list = /** @type {HTMLElement} */ (dialog.querySelector("[role=listbox]"));
  let found = entries;
  let at = 0;

  const show = () => {
    found = matching(entries, input.value);
    at = Math.min(at, Math.max(0, found.length - 1));
    list.replaceChildren(
      ...found.map((entry, i) => {
        const row = document.createElement("li");
        row.id = `command-${i}`;
        row.role = "option";
        row.ariaSelected = String(i === at);
        row.dataset.name = entry.name;
        const keys = keysOf(entry.name).map((k) => Object.assign(document.createElement("kbd"), { textContent: k }));
        const words = Object.assign(document.createElement("span"), { textContent: entry.words });
        row.append(words, Object.assign(document.createElement("small"), { textContent: entry.group }), ...keys);
        return row;
      }),
    );
    const chosen = list.children[at];
    input.setAttribute("aria-activedescendant", chosen?.id ?? "");
    chosen?.scrollIntoView({ block: "nearest" });
    dialog.querySelector(".none")?.toggleAttribute("hidden", found.length > 0);
  };
  const take = (name) => {
    dialog.close();
    run(name);
  };
  input.oninput = () => ((at = 0), show());
  input.onkeydown = (e) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (step) {
      e.preventDefault();
      at = (at + step + found.length) % Math.max(1, found.length);
      show();
    }
    if (e.key === "Enter") {
      e.preventDefault();
      if (found[at]) take(found[at].name);
    }
  };
  list.onclick = (e) => {
    const row = /** @type {HTMLElement} */ (e.target).closest("li");
    if (row?.dataset.name) take(row.dataset.name);
  };
  return () => {
    input.value = "";
    at = 0;
    show();
    dialog.showModal();
    input.focus();
  };
}
