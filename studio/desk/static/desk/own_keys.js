// @ts-check
// The keys of commands, as they come or as the engineer wants them (WCAG 2.1.4). Kept in this browser.

/** @typedef {Record<string, string[]>} Keys of each command, by its name */

const KEPT = "own-keys";
const NEEDS_SHIFT = /^[^a-zA-Z]$/; // characters that a keyboard may put on Shift
/** Keys that no command can take: the page cannot be left, or a dialog closed, without them. */
const REFUSED = /^(Ctrl\+)?(Shift\+)?(Tab|Escape|Shift|Control|Alt|AltGraph|Meta|Dead|Process|Unidentified|CapsLock)$/;

/**
 * A key as commands are written: "k", "Shift+K", "Ctrl+k".
 * @param {{key: string, shiftKey: boolean, ctrlKey: boolean, metaKey: boolean}} e
 */
export function keyOf(e) {
  const key = e.shiftKey && !NEEDS_SHIFT.test(e.key) ? `Shift+${e.key}` : e.key;
  return e.ctrlKey || e.metaKey ? `Ctrl+${key}` : key;
}

/** @param {string} key */
export const canBeTaken = (key) => !REFUSED.test(key);

/**
 * The keys in which a command's ``old`` one (null: none) is ``key``; another command that had it has it no more.
 * @param {Keys} keys
 * @param {string} name
 * @param {string | null} old
 * @param {string | null} key null: the old one goes
 * @returns {{keys: Keys, from: string | null}} ``from``: the command that lost it
 */
export function withKey(keys, name, old, key) {
  const from = key === null ? null : (Object.keys(keys).find((n) => n !== name && keys[n].includes(key)) ?? null);
  const out = { ...keys };
  if (from && key !== null) out[from] = keys[from].filter((k) => k !== key);
  const rest = keys[name].filter((k) => k !== key);
  const at = old === null ? -1 : rest.indexOf(old);
  if (key === null) out[name] = rest.filter((k) => k !== old);
  else out[name] = at < 0 ? [...rest, key] : rest.with(at, key);
  return { keys: out, from };
}

/**
 * As they come, but for what was changed and still exists.
 * @param {Keys} usual
 * @param {Storage} storage
 * @returns {Keys}
 */
export function readKeys(usual, storage) {
  const out = { ...usual };
  try {
    const own = JSON.parse(storage.getItem(KEPT) ?? "{}");
    for (const [name, keys] of Object.entries(own)) {
      if (name in usual && Array.isArray(keys)) out[name] = keys.filter((k) => typeof k === "string");
    }
  } catch {
    storage.removeItem(KEPT); // no table of keys
  }
  return out;
}

/**
 * Keep what differs from how the keys come.
 * @param {Keys} usual
 * @param {Keys} keys
 * @param {Storage} storage
 */
export function keepKeys(usual, keys, storage) {
  const own = Object.fromEntries(Object.entries(keys).filter(([n, k]) => k.join(" ") !== usual[n].join(" ")));
  if (Object.keys(own).length) storage.setItem(KEPT, JSON.stringify(own));
  else storage.removeItem(KEPT);
}
