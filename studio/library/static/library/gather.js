// @ts-check
// Bringing files in: dropped or chosen, sent in parts with their digests, going on where an interrupted one stopped.

import { sha256 } from "../noble/sha2.js";
import { bytesToHex } from "../noble/utils.js";
import { note, putBytes, send } from "../studio/server.js";

/** Bytes sent at once, each such piece with a digest; times it is sent again while the server does not answer, or gets
 * other bytes than were sent. */
const PIECE = 4 * 2 ** 20;
const TRIES = 15;
/** Milliseconds until it is tried again: a little longer each time. */
const pause = (tries) => Math.min(5000, 700 * tries);

const wait = (ms) => new Promise((done) => setTimeout(done, ms));

/** SHA-256 of some bytes: the browser's own is six times as fast, but only offered on this machine and behind TLS. */
async function digestOf(bytes) {
  return crypto.subtle ? new Uint8Array(await crypto.subtle.digest("SHA-256", bytes)) : sha256(bytes);
}

const digestOfPiece = async (piece) => digestOf(new Uint8Array(await piece.arrayBuffer()));

/** The digest of a file, from those of its pieces, as hexadecimal digits. */
async function digestOfAll(digests) {
  return bytesToHex(await digestOf(new Uint8Array(await new Blob(digests).arrayBuffer())));
}

/**
 * Send one file; `show(share)` is told how far it is. Resolves to whether it became a track.
 * @param {number} session
 * @param {File} file
 * @param {string[]} among the names of all that come with it
 * @param {(share: number) => void} show
 * @param {AbortSignal} cancelled
 */
async function sendFile(session, file, among, show, cancelled) {
  try {
    return await new Sending(session, file, among, show, cancelled).send();
  } catch {
    // the browser cannot read it: a folder, a file that was moved or changed meanwhile
    note(`“${file.name}” could not be read. If it was moved or changed, drop it again.`, true);
    return false;
  }
}

class Sending {
  /**
   * @param {number} session
   * @param {File} file
   * @param {string[]} among
   * @param {(share: number) => void} show
   * @param {AbortSignal} cancelled
   */
  constructor(session, file, among, show, cancelled) {
    this.session = session;
    this.file = file;
    this.among = among;
    this.show = show;
    this.cancelled = cancelled;
    this.failures = 0;
    this.id = 0; // of the upload
    /** @type {Uint8Array<ArrayBuffer>[]} digests of the pieces that have arrived */
    this.digests = [];
  }

  /** Say what comes. What has arrived of a file of the same name and size is gone on with if it is this file's beginning. */
  async #announce(fresh = false) {
    const { name, size } = this.file;
    const { ok, status, data } = await send(`/sessions/${this.session}/uploads`, { name, size, fresh });
    if (!ok) return this.#failed(status, data);
    const digests = [];
    for (let at = 0; at < data.received; at += PIECE)
      digests.push(await digestOfPiece(this.file.slice(at, Math.min(at + PIECE, data.received))));
    if (data.received && (await digestOfAll(digests)) !== data.digest) return this.#announce(true);
    // of a piece that has arrived in part all is sent
    if (data.received < size) digests.length = Math.floor(data.received / PIECE);
    [this.id, this.digests] = [data.id, digests];
    return true;
  }

  /** Bytes that have arrived. */
  get #sent() {
    return Math.min(this.file.size, this.digests.length * PIECE);
  }

  /** The server is away for a moment, or it is over: whether to go on. */
  async #failed(status, data) {
    if (this.cancelled.aborted) return false;
    if (status === 0 && this.failures++ < TRIES) {
      await wait(pause(this.failures)); // the server may be starting again
      return !this.cancelled.aborted && this.#announce();
    }
    note(data.error ?? `“${this.file.name}” could not be sent.`, true);
    return false;
  }

  async send() {
    const { file } = this;
    if (!(await this.#announce())) return false;
    let ended = { ok: false, status: 409, data: {} };
    while (!ended.ok) {
      while (this.#sent < file.size) if (this.cancelled.aborted || !(await this.#piece())) return false;
      ended = await this.#finish();
      // 409: not all is there; what is missing is sent
      if (!ended.ok && !(await this.#failed(ended.status === 409 ? 0 : ended.status, ended.data))) return false;
    }
    this.show(1);
    return true;
  }

  /** Asked for again where the answer did not come: it is the same then. */
  async #finish() {
    const digest = await digestOfAll(this.digests);
    for (let tries = 0; ; tries++) {
      const answer = await send(`/uploads/${this.id}/finish`, { digest, among: this.among });
      if (answer.status !== 0 || tries >= TRIES || this.cancelled.aborted) return answer;
      await wait(pause(tries + 1));
    }
  }

  async #piece() {
    const sent = this.#sent;
    const piece = this.file.slice(sent, sent + PIECE);
    const digest = await digestOfPiece(piece);
    // sent as a part of the file: its bytes need not come through the page
    const show = (n) => this.show((sent + n) / this.file.size);
    const url = `/uploads/${this.id}?offset=${sent}`;
    const answer = await putBytes(url, piece, bytesToHex(digest), show, this.cancelled);
    if (answer.ok) {
      this.digests.push(digest);
      this.failures = 0;
      return true;
    }
    return this.#failed(answer.status === 409 ? 0 : answer.status, answer.data);
  }
}

/** How many groups of files are on their way. A page that goes would break them off. */
let underWay = 0;
export const isGathering = () => underWay > 0;
addEventListener("beforeunload", (e) => underWay && e.preventDefault());

/**
 * Send files one after another with a progress bar in `box`; then start finding beats. Resolves to the number of tracks
 * that came in, and whether the rest was cancelled.
 */
export async function gather(session, files, box) {
  underWay += 1;
  try {
    return await sendAll(session, files, box);
  } finally {
    underWay -= 1;
  }
}

async function sendAll(session, files, box) {
  const total = files.reduce((n, f) => n + f.size, 0) || 1;
  const { line, bar, words, signal } = progressLine();
  box.append(line);
  const names = files.map((f) => f.name);
  let before = 0;
  let tracks = 0;
  for (const [i, file] of files.entries()) {
    words.textContent = `Bringing in ${file.name} (${i + 1} of ${files.length})`;
    words.title = file.name;
    if (await sendFile(session, file, names, (share) => (bar.value = (before + share * file.size) / total), signal))
      tracks += 1;
    if (signal.aborted) break;
    before += file.size;
    bar.value = before / total;
  }
  line.remove();
  const cancelled = signal.aborted && tracks < files.length;
  if (cancelled) note(`Cancelled: ${tracks} of ${files.length} ${files.length > 1 ? "files" : "file"} came in.`, true);
  else if (tracks) await send(`/sessions/${session}/find?first=1`); // a map that is there already stays
  return { tracks, cancelled };
}

/** A line that tells which file is sent and how much of all has arrived, with a button that cancels. */
function progressLine() {
  const bar = document.createElement("progress");
  bar.max = 1;
  bar.value = 0;
  const words = document.createElement("span");
  words.className = "stage";
  const cancel = document.createElement("button");
  cancel.className = "key";
  cancel.textContent = "Cancel";
  const line = document.createElement("div");
  line.className = "job uploading";
  line.append(bar, words, cancel);
  const stop = new AbortController();
  cancel.onclick = () => {
    stop.abort();
    line.remove();
  };
  return { line, bar, words, signal: stop.signal };
}

/** @typedef {{files: File[], folder: string}} Group files that belong together, and the name of their folder */

/** @param {Group[]} groups */
export const filesOf = (groups) => groups.flatMap((g) => g.files);

const byName = (files) => files.sort((a, b) => a.name.localeCompare(b.name, "en", { numeric: true }));

/** All files of a dropped file or folder, also of folders in it. */
async function under(entry) {
  if (entry.isFile) {
    const file = await new Promise((resolve, reject) => entry.file(resolve, reject));
    return file.name.startsWith(".") ? [] : [file];
  }
  const reader = entry.createReader();
  const out = [];
  for (;;) {
    const some = await new Promise((resolve, reject) => reader.readEntries(resolve, reject));
    if (!some.length) return out;
    for (const e of some) out.push(...(await under(e)));
  }
}

/**
 * What was dropped: each folder is a group of its own, loose files together are one.
 * @returns {Promise<Group[]>}
 */
async function groupsOf(transfer) {
  const entries = [...transfer.items].map((i) => i.webkitGetAsEntry?.()).filter(Boolean);
  const loose = entries.length ? [] : [...transfer.files];
  const groups = [];
  for (const e of entries) {
    const files = await under(e);
    if (e.isDirectory) groups.push({ files: byName(files), folder: e.name });
    else loose.push(...files);
  }
  groups.push({ files: byName(loose), folder: "" });
  return groups.filter((g) => g.files.length);
}

/**
 * Take drops anywhere on the page, and the files of the `chooser`.
 * @param {HTMLElement | null} chooser
 * @param {(groups: Group[]) => void} take
 */
export function onFiles(chooser, take) {
  const input = /** @type {HTMLInputElement | null} */ (chooser);
  let depth = 0;
  const holdsFiles = (e) => e.dataTransfer?.types.includes("Files");
  addEventListener("dragenter", (e) => {
    if (holdsFiles(e) && ++depth) document.body.classList.add("dropping");
  });
  addEventListener("dragleave", (e) => {
    if (holdsFiles(e) && --depth <= 0) document.body.classList.remove("dropping");
  });
  addEventListener("dragover", (e) => holdsFiles(e) && e.preventDefault());
  addEventListener("drop", async (e) => {
    if (!holdsFiles(e)) return;
    e.preventDefault();
    depth = 0;
    document.body.classList.remove("dropping");
    const groups = await groupsOf(e.dataTransfer);
    if (groups.length) take(groups);
  });
  input?.addEventListener("change", () => {
    if (input.files.length) take([{ files: [...input.files], folder: "" }]);
    input.value = "";
  });
}
