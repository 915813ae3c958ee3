// @ts-check
// Which clock the page runs on: the recording's, or that of the reshaped result. Whatever is read from the server says so.

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
  return key ? `${url}${url.includes("?") ? "&" : "?"}clock=${key}` : url;
}
