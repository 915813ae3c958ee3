// @ts-check
// Samples on their way to the server: in order, again where no answer came, a quarter of a second at a time.

import { addressOf } from "../studio/address.js";
import { csrf } from "../studio/server.js";
import { joined } from "./cutting.js";

const EVERY = 250; // milliseconds
const AGAIN = 700;
const MOST = 2 ** 20; // samples at once
const KEEPALIVE = 60_000; // bytes that a page may still send while it is closed

export class Sending {
  /**
   * @param {number} id of the pass
   * @param {number} width channels
   */
  constructor(id, width) {
    this.url = addressOf(`/recordings/${id}`);
    this.width = width;
    /** @type {Float32Array[]} */
    this.waiting = [];
    this.sent = 0; // frames of this pass that are on the server's disk
    this.before = 0; // frames of passes that were ended elsewhere while this went on
    /** @type {() => Promise<number | null>} begins another pass and resolves to its id */
    this.goOn = async () => null;
    this.failed = 0; // tries in a row without an answer
    this.trouble = "";
    this.next = 0; // ms: the earliest time of the next try
    this.timer = setInterval(() => this.#send(), EVERY);
    this.leaving = () => this.#leave();
    addEventListener("pagehide", this.leaving);
  }

  /** @param {Float32Array} samples */
  add(samples) {
    if (samples.length) this.waiting.push(samples.slice());
  }

  /** Seconds that have not arrived, at a rate. */
  behind(rate) {
    return this.waiting.reduce((n, p) => n + p.length, 0) / this.width / rate;
  }

  #put(body, more = {}) {
    return fetch(`${this.url}?from=${this.sent}`, {
      method: "PUT",
      body,
      headers: { "X-CSRFToken": csrf(), "Content-Type": "application/octet-stream" },
      ...more,
    });
  }

  async #send() {
    if (this.busy || !this.waiting.length || performance.now() < this.next) return;
    this.busy = true;
    try {
      let some = joined(this.waiting);
      if (some.length > MOST) some = some.subarray(0, Math.floor(MOST / this.width) * this.width);
      const response = await this.#put(some);
      const data = await response.json();
      if (response.status === 410) await this.#another();
      else if (data.frames !== undefined && data.frames >= this.sent) {
        this.#arrived(data.frames - this.sent);
        [this.sent, this.failed, this.trouble] = [data.frames, 0, ""];
      } else this.#fail(data.error ?? "");
    } catch {
      this.#fail("");
    }
    this.busy = false;
  }

  /** The pass was ended elsewhere, as when the server was away for long: the rest goes into another one. */
  async #another() {
    const id = await this.goOn();
    if (id === null) return this.#fail("");
    this.before += this.sent;
    this.sent = 0;
    this.url = addressOf(`/recordings/${id}`);
    return undefined;
  }

  #fail(words) {
    this.failed++;
    this.trouble = words || "The server does not answer. What is played is kept here and sent again.";
    this.next = performance.now() + AGAIN;
  }

  /** Frames that need not be kept any more. */
  #arrived(frames) {
    let samples = frames * this.width;
    while (samples > 0 && this.waiting.length) {
      const [first] = this.waiting;
      if (first.length > samples) this.waiting[0] = first.subarray(samples);
      else this.waiting.shift();
      samples -= first.length;
    }
  }

  #leave() {
    const rest = joined(this.waiting).subarray(0, Math.floor(KEEPALIVE / 4 / this.width) * this.width);
    if (rest.length) this.#put(rest, { keepalive: true });
  }

  /** All that was added has arrived. Never rejects; goes on trying. */
  async drained() {
    while (this.waiting.length || this.busy) {
      if (!this.busy) await this.#send();
      await new Promise((done) => setTimeout(done, this.waiting.length ? 30 : 0));
    }
    clearInterval(this.timer);
    removeEventListener("pagehide", this.leaving);
  }
}
