// @ts-check
// Which clock the page runs on: the recording's, or that of the reshaped result. Whatever is read from the server says so.

import { addressOf } from "./address.js";

/** Names the result that is shown; empty on the recording's clock. */
let shown = "";

export const clock = {
  get key() {
    return shown;
  },
  set key(key) {
    shown = key;
  },
};

/**
 * The address of what is read, on the clock that the page runs on.
 * @param {string} url
 * @param {string} [key] of a single track: its version
 */
export function clocked(url, key = shown) {
  const address = addressOf(url);
  return key ? `${address}${address.includes("?") ? "&" : "?"}clock=${key}` : address;
}
