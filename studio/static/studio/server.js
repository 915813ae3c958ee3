// @ts-check
// Talking to the server: JSON requests with the CSRF token, and notes to the engineer.

import { addressOf } from "./address.js";
import { clocked } from "./clock.js";

export const csrf = () => document.cookie.match(/csrftoken=([^;]+)/)?.[1] ?? "";

/** Where what was asked for does not come. */
export const AWAY = "The server does not answer. Nothing is lost; try again when it is back.";
/** Status codes by which a proxy says that the server does not answer. */
const GATEWAY = new Set([502, 503, 504]);

/**
 * POST (or another method) JSON. Never rejects.
 * @param {string} url
 * @param {unknown} [data]
 * @returns {Promise<{ok: boolean, status: number, data: any}>}
 */
export function send(url, data, method = "POST") {
  const body = data === undefined ? undefined : JSON.stringify(data);
  return answered(url, { method, body, headers: { "Content-Type": "application/json" } });
}

/**
 * POST fields and files as a form does. Never rejects.
 * @param {string} url
 * @param {Record<string, string | Blob>} fields
 */
export function sendForm(url, fields) {
  const body = new FormData();
  for (const [name, value] of Object.entries(fields)) body.append(name, value);
  return answered(url, { method: "POST", body });
}

/** What was sent and is not answered yet. */
const unanswered = new Set();
let answeredAt = -Infinity; // ms

/** Once all that was sent so far is answered: an undo means the last change, also one that is still under way. */
export function allAnswered() {
  return Promise.allSettled(unanswered);
}

/**
 * Whether the answer to a question may tell what was before a change.
 * @param {number} asked when, ms
 */
export function isOvertaken(asked) {
  return unanswered.size > 0 || asked < answeredAt;
}

/** @returns {Promise<{ok: boolean, status: number, data: any}>} */
function answered(url, options) {
  return underWay(ask(url, options));
}

/**
 * @template T
 * @param {Promise<T>} request that changes something on the server
 */
export function underWay(request) {
  unanswered.add(request);
  request.finally(() => {
    unanswered.delete(request);
    answeredAt = performance.now();
  });
  return request;
}

/** @returns {Promise<{ok: boolean, status: number, data: any}>} */
async function ask(url, options) {
  try {
    const response = await fetch(addressOf(url), {
      ...options,
      headers: { ...options.headers, "X-CSRFToken": csrf() },
    });
    tellStep(response.headers.get("X-Step-Before"), response.headers.get("X-Step"));
    return { ok: response.ok, status: response.status, data: parsed(response, await response.text()) };
  } catch {
    return { ok: false, status: 0, data: { error: AWAY } };
  }
}

/** The data of a response. Throws if a proxy answered because the server does not. */
function parsed(response, text) {
  try {
    return JSON.parse(text);
  } catch {
    if (response.ok || !text) return {};
    if (GATEWAY.has(response.status)) throw new Error(AWAY);
    const isPage = response.headers.get("Content-Type")?.includes("html");
    return { error: isPage ? `That was refused (${response.status}).` : text.slice(0, 200) };
  }
}

/**
 * Tell the page which step of the history a request made.
 * @param {string | null} before
 * @param {string | null} after
 */
export function tellStep(before, after) {
  if (after) document.dispatchEvent(new CustomEvent("step-made", { detail: [Number(before), Number(after)] }));
}

/**
 * @param {string} url
 * @param {string} [version] of the track that is meant, instead of the page's clock
 */
export async function getJson(url, version) {
  const response = await fetch(clocked(url, version));
  if (!response.ok) throw new Error(`${response.status} for ${url}`);
  return response.json();
}

/** What the page would like to know but can do without: null where the server does not answer. */
/**
 * @param {string} url
 * @param {string} [version]
 */
export async function tryJson(url, version) {
  try {
    return await getJson(url, version);
  } catch {
    return null;
  }
}

/**
 * Reads of one thing. An answer that a later question, or a change, has overtaken tells an older state: undefined
 * instead; null where the server does not answer.
 */
export class Latest {
  #turn = 0;

  overtake() {
    this.#turn++;
  }

  /** @param {string} url */
  async read(url) {
    const turn = ++this.#turn;
    const data = await tryJson(url);
    return turn === this.#turn ? data : undefined;
  }
}

/**
 * Put what the server makes of a part of the page into it; while the server does not answer, what is there stays.
 * `other`: what comes is another thing than what is there, nothing of which is to stay.
 */
export async function fill(target, url, other = false) {
  const swap = other ? "innerHTML" : "morph:innerHTML";
  // each part of the page is the source of its own requests: htmx lets one wait for each source, the last one
  // htmx refuses with nothing at all where the connection broke
  await globalThis.htmx?.ajax("GET", addressOf(url), { source: target, target, swap })?.catch(() => null);
}

/**
 * Send part of a file and report how many of its bytes have left.
 * @param {string} url
 * @param {BodyInit} bytes
 * @param {string} digest SHA-256 of the bytes, in hexadecimal
 * @param {(sent: number) => void} onProgress
 * @param {AbortSignal} cancelled
 * @returns {Promise<{ok: boolean, status: number, data: any}>}
 */
export function putBytes(url, bytes, digest, onProgress, cancelled) {
  return new Promise((resolve) => {
    const request = new XMLHttpRequest();
    request.open("PUT", addressOf(url));
    request.setRequestHeader("X-CSRFToken", csrf());
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.setRequestHeader("X-Digest", digest);
    request.upload.onprogress = (e) => onProgress(e.loaded);
    const abort = () => request.abort();
    cancelled.addEventListener("abort", abort);
    request.onloadend = () => {
      cancelled.removeEventListener("abort", abort);
      let data = {};
      let { status } = request;
      try {
        data = JSON.parse(request.responseText);
      } catch {
        if (GATEWAY.has(status)) status = 0;
        data = { error: "The connection broke. What has arrived is kept; drop the file again to go on." };
      }
      resolve({ ok: status >= 200 && status < 300, status, data });
    };
    request.send(/** @type {any} */ (bytes));
  });
}

/**
 * Show a note; bad ones stay until closed, and so do those that offer something: a button with `words` that does `act`.
 * @param {string} text
 * @param {boolean} [bad]
 * @param {{words: string, act: () => void, shows?: () => void, hides?: () => void}} [offer]
 * @param {boolean} [stays] until it is removed
 */
export function note(text, bad = false, offer = undefined, stays = false) {
  const box = document.getElementById("notes");
  if ([...box.children].some((n) => n.firstChild.textContent === text)) return;
  const el = document.createElement("div");
  el.className = bad ? "note bad" : "note";
  const words = document.createElement("span");
  words.textContent = text;
  const close = document.createElement("button");
  close.textContent = "×";
  close.setAttribute("aria-label", "Close this note");
  close.onclick = () => el.remove();
  el.append(words);
  if (offer) {
    const button = document.createElement("button");
    button.className = "offer";
    button.textContent = offer.words;
    button.onclick = () => (el.remove(), offer.act());
    button.onpointerenter = () => offer.shows?.();
    button.onpointerleave = () => offer.hides?.();
    el.append(button);
  }
  el.append(close);
  box.append(el);
  if (!bad && !stays) setTimeout(() => el.remove(), offer ? 12000 : 4000);
  return el;
}

/**
 * Tell what is waited for, where it takes more than a moment.
 * @template T
 * @param {string} text
 * @param {Promise<T>} work
 */
export async function noteWhile(text, work) {
  const told = [];
  const soon = setTimeout(() => told.push(note(text, false, undefined, true)), 400);
  try {
    return await work;
  } finally {
    clearTimeout(soon);
    told[0]?.remove();
  }
}
