// @ts-check
// What every form of the pages has in common: steps that it made are told, and no error passes in silence.

import "./renewing.js";
import { AWAY, note, tellStep, underWay } from "./server.js";

document.addEventListener("htmx:beforeSend", (e) => {
  const { xhr, requestConfig } = /** @type {CustomEvent} */ (e).detail;
  if (requestConfig.verb !== "get") underWay(new Promise((done) => xhr.addEventListener("loadend", done)));
});

document.addEventListener("htmx:afterRequest", (e) => {
  const { xhr } = /** @type {CustomEvent} */ (e).detail;
  tellStep(xhr.getResponseHeader("X-Step-Before"), xhr.getResponseHeader("X-Step"));
});

document.addEventListener("htmx:responseError", (e) => {
  const { xhr, requestConfig } = /** @type {CustomEvent} */ (e).detail;
  if (requestConfig.verb === "get") return; // what is asked for again by itself
  const plain = !xhr.getResponseHeader("Content-Type")?.includes("html");
  note(plain && xhr.responseText ? xhr.responseText : "That did not work; nothing was changed.", true);
});

document.addEventListener("htmx:sendError", (e) => {
  if (/** @type {CustomEvent} */ (e).detail.requestConfig.verb === "get") return;
  note(AWAY, true);
});

// htmx refuses with no reason at all where a connection broke; its events, above, have told of that
addEventListener("unhandledrejection", (e) => e.reason === undefined && e.preventDefault());
