// @ts-check
// Files that the server makes when they are asked for: what it cannot make is told on the page, which stays.

import { AWAY, note } from "./server.js";

/** The name in a Content-Disposition header. */
export function nameIn(header) {
  const plain = /filename="([^"]*)"/.exec(header ?? "")?.[1];
  const coded = /filename\*=utf-8''([^;]+)/i.exec(header ?? "")?.[1];
  return coded ? decodeURIComponent(coded) : (plain ?? "file");
}

async function get(url) {
  try {
    const response = await fetch(url);
    if (!response.ok) {
      const plain = !response.headers.get("Content-Type")?.includes("html");
      note(plain ? await response.text() : "That file could not be made; nothing was changed.", true);
      return;
    }
    const link = document.createElement("a");
    link.href = URL.createObjectURL(await response.blob());
    link.download = nameIn(response.headers.get("Content-Disposition"));
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 60_000);
  } catch {
    note(AWAY, true);
  }
}

document.addEventListener("submit", (e) => {
  const form = /** @type {HTMLFormElement} */ (e.target);
  if (!form.matches("form[data-download]")) return;
  e.preventDefault();
  const fields = new URLSearchParams(/** @type {any} */ (new FormData(form)));
  get(`${form.action}?${fields}`);
});

document.addEventListener("click", (e) => {
  const link = /** @type {HTMLElement} */ (e.target).closest?.("a[download][href*='/deliver/']");
  // an archive lies ready and may be large: the browser fetches it itself, in parts where it has to
  if (!link || link.getAttribute("href").endsWith(".zip") || link.getAttribute("href").startsWith("blob:")) return;
  e.preventDefault();
  get(link.getAttribute("href"));
});
