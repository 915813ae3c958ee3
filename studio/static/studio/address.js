// @ts-check
// Where the studio lies on its host: behind a proxy it may be below a path.

const prefix = globalThis.document?.documentElement.dataset.prefix ?? "";

/**
 * The address of a path of the studio. What the server has written already stays as it is.
 * @param {string} path
 */
export const addressOf = (path) =>
  !prefix || !path.startsWith("/") || path.startsWith(`${prefix}/`) ? path : prefix + path;
