// @ts-check
// What the Record pane shows while an input is open: levels, the tuner, the time, and the map as far as it was played.

import { addressOf } from "../studio/address.js";
import { clock } from "../desk/drawing.js";
import { isGathering } from "../library/gather.js";
import { loadAgain } from "../studio/leaving.js";
import { csrf, note, send } from "../studio/server.js";
import { write } from "../studio/writing.js";
import { joined, peaks } from "./cutting.js";
import { Input, SIMULATED } from "./input.js";

/** @typedef {Pick<import("../desk/desk.js").Desk, "facts" | "player">} Needs what this uses of the desk */

const FLOOR = -60; // dB at the left of the meter
const FALL = 0.7; // dB a stretch
const CLIP = -0.05;
const TUNED = 0.25; // seconds of sound that are tuned
const TEST = 1.2; // seconds in which the test sound has to come back

const byId = (id) => document.getElementById(id);

export class Live {
  /**
   * @param {Needs} desk
   * @param {Input} input
   */
  constructor(desk, input) {
    this.desk = desk;
    this.input = input;
    this.shown = [];
    this.held = [];
    this.heard = [];
    this.collecting = null;
    document.addEventListener("change", (e) => {
      if (e.target.id === "record-input") this.open();
      if (e.target.matches("[data-channel]")) this.#useChannels();
    });
    document.body.addEventListener("htmx:afterSettle", () => this.#paneCame());
  }

  /** @param {"inputs" | "latency" | "tuner" | "clear"} what */
  do(what) {
    if (what === "inputs") this.open();
    else if (what === "latency") this.#measure();
    else if (what === "tuner") this.#toggleTuner();
    else if (what === "clear") this.held = [];
  }

  // ---- the input

  /** Samples from the player through the converters and back, as measured for this input. */
  get latency() {
    return this.input.id === SIMULATED ? 0 : Number(localStorage.getItem(this.#key) ?? 0);
  }

  get #key() {
    return `latency ${this.input.label} ${this.desk.player.context.sampleRate}`;
  }

  /** Whether the chosen input could be opened; asked twice at once it is opened once. */
  open() {
    this.opening ??= this.#open().finally(() => (this.opening = null));
    return this.opening;
  }

  async #open() {
    try {
      await this.input.open(byId("record-input")?.value ?? "");
    } catch (e) {
      note(REFUSED[e.name] ?? "This input cannot be opened.", true);
      return false;
    }
    this.held = [];
    if (await this.#atItsRate()) return false; // the page is loaded again
    await this.#listInputs();
    return true;
  }

  /** A session without tracks takes the rate of the input, so that nothing is converted. */
  async #atItsRate() {
    const { facts } = this.desk;
    const { rate } = this.input;
    if (!rate || rate === this.desk.player.context.sampleRate || facts.tracks.length || facts.parts.length)
      return false;
    if (isGathering()) return false; // the first file gives the rate
    const { ok } = await send(`/sessions/${facts.id}/record/rate`, { rate });
    if (!ok) return false;
    sessionStorage.setItem("open-input", this.input.id || "usual");
    loadAgain();
    return true;
  }

  /** After the page was loaded again for the rate of an input. */
  #openAgain() {
    const id = sessionStorage.getItem("open-input");
    if (!id || this.input.isOpen) return;
    sessionStorage.removeItem("open-input");
    byId("record-input").value = id === "usual" ? "" : id;
    this.open();
  }

  async #paneCame() {
    if (!byId("record-input")) return;
    await this.#listInputs();
    this.#openAgain();
  }

  async #listInputs() {
    const field = byId("record-input");
    const inputs = await Input.list();
    const named = inputs.filter((i) => i.name && i.id !== "default");
    const keep = field.querySelector(`[value=${SIMULATED}]`);
    const usual = new Option("the usual input", "");
    const options = [usual, ...named.map((i) => new Option(i.name, i.id)), ...(keep ? [keep] : [])];
    const chosen = this.input.isOpen ? this.input.id : field.value;
    field.replaceChildren(...options);
    field.value = options.some((o) => o.value === chosen) ? chosen : "";
    this.#showChannels();
    this.#showLatency();
  }

  #showChannels() {
    const box = byId("record-channels");
    if (!box || !this.input.isOpen) return;
    box.replaceChildren(
      ...Array.from({ length: this.input.most }, (_, c) => {
        const label = document.createElement("label");
        const tick = Object.assign(document.createElement("input"), { type: "checkbox" });
        tick.dataset.channel = String(c);
        tick.checked = this.input.channels.includes(c);
        const meter = document.createElement("span");
        meter.className = "meter-bar";
        meter.setAttribute("role", "meter");
        meter.setAttribute("aria-label", `Level of channel ${c + 1}`);
        meter.setAttribute("aria-valuemin", FLOOR);
        meter.setAttribute("aria-valuemax", 0);
        meter.setAttribute("aria-valuenow", FLOOR);
        meter.append(document.createElement("i"), document.createElement("b"));
        const most = document.createElement("output");
        label.append(tick, ` ${c + 1} `);
        const row = document.createElement("div");
        row.className = "channel";
        row.dataset.of = String(c);
        row.append(label, meter, most);
        return row;
      }),
    );
    byId("record-live").hidden = false;
  }

  #useChannels() {
    const ticks = [...document.querySelectorAll("[data-channel]")].filter((t) => t.checked);
    this.input.use(ticks.map((t) => Number(t.dataset.channel)));
    this.held = [];
  }

  // ---- levels

  /** @param {{first: number, data: Float32Array, width: number, there: number}} stretch */
  hear(stretch) {
    this.#collect(stretch);
    this.#tune(stretch);
    const now = peaks(stretch.data, stretch.width);
    this.shown = now.map((p, i) => Math.max(p, (this.shown[i] ?? FLOOR) - FALL));
    this.held = now.map((p, i) => Math.max(p, this.held[i] ?? -120));
    if (this.frame) return;
    this.frame = requestAnimationFrame(() => {
      this.frame = 0;
      this.input.channels.forEach((c, i) => this.#draw(c, this.shown[i], this.held[i]));
    });
  }

  #draw(channel, level, held) {
    const row = document.querySelector(`.channel[data-of="${channel}"]`);
    if (!row || level === undefined) return;
    const share = (db) => Math.max(0, Math.min(1, 1 - db / FLOOR));
    const meter = row.querySelector(".meter-bar");
    meter.querySelector("i").style.transform = `scaleX(${share(level)})`;
    meter.querySelector("b").style.left = `${100 * share(held)}%`;
    const whole = String(Math.round(level));
    if (meter.getAttribute("aria-valuenow") !== whole) meter.setAttribute("aria-valuenow", whole);
    row.classList.toggle("clipped", held >= CLIP);
    write(row.querySelector("output"), held <= -100 ? "–" : `${held.toFixed(1)} dB`);
  }

  // ---- the tuner

  #toggleTuner() {
    this.tuning = !this.tuning;
    this.heard = [];
    byId("tuner-key").setAttribute("aria-pressed", String(this.tuning));
    byId("tuner").hidden = !this.tuning;
  }

  #tune({ data, width }) {
    if (!this.tuning || !byId("tuner")) return;
    const mono = new Float32Array(data.length / width);
    for (let i = 0; i < mono.length; i++) for (let c = 0; c < width; c++) mono[i] += data[i * width + c] / width;
    this.heard.push(mono);
    const rate = this.desk.player.context.sampleRate;
    if (this.asking || this.heard.length * mono.length < TUNED * rate) return;
    const sound = joined(this.heard.splice(0));
    this.asking = true;
    this.#ask("tuner", sound, `&reference=${Number(byId("tuner-reference").value) || 440}`)
      .then(({ data: found }) => this.#showNote(found))
      .finally(() => (this.asking = false));
  }

  #showNote(found) {
    byId("tuner-note").textContent = found?.note ? `${found.note}${found.octave}` : "–";
    byId("tuner-cents").textContent = found?.note ? `${found.cents > 0 ? "+" : ""}${found.cents.toFixed(0)} ct` : "";
    byId("tuner-needle").style.left = `${50 + (found?.note ? Math.max(-50, Math.min(50, found.cents)) : 0)}%`;
    byId("tuner").classList.toggle("right", Boolean(found?.note) && Math.abs(found.cents) < 3);
  }

  async #ask(what, samples, more = "") {
    const rate = this.desk.player.context.sampleRate;
    const url = addressOf(`/sessions/${this.desk.facts.id}/record/${what}?rate=${rate}${more}`);
    const headers = { "X-CSRFToken": csrf(), "Content-Type": "application/octet-stream" };
    try {
      const response = await fetch(url, { method: "POST", body: samples, headers });
      return { ok: response.ok, data: await response.json() };
    } catch {
      return { ok: false, data: { error: "The server does not answer." } };
    }
  }

  // ---- latency

  /** Play the test sound and look for it in what comes back. */
  async #measure() {
    if (!this.input.isOpen && !(await this.open())) return;
    const { player, facts } = this.desk;
    const { context } = player;
    const url = addressOf(`/sessions/${facts.id}/record/loopback?rate=${context.sampleRate}`);
    const burst = new Float32Array(await (await fetch(url)).arrayBuffer());
    const buffer = new AudioBuffer({ length: burst.length, sampleRate: context.sampleRate });
    buffer.copyToChannel(burst, 0);
    const from = Math.ceil((context.currentTime + 0.2) * context.sampleRate);
    const source = new AudioBufferSourceNode(context, { buffer });
    source.connect(context.destination);
    source.start(from / context.sampleRate);
    const sound = await this.#collected(from, Math.round(TEST * context.sampleRate));
    const { ok, data } = await this.#ask("loopback", sound);
    if (!ok) return void note(data.error, true);
    localStorage.setItem(this.#key, String(data.samples));
    this.#showLatency();
    return note(`${data.ms.toFixed(1)} ms there and back; what you record is moved by as much.`);
  }

  /** The first chosen channel from a frame of the clock on. */
  #collected(from, count) {
    return new Promise((done) => {
      this.collecting = { from, sound: new Float32Array(count), done };
    });
  }

  #collect({ first, data, width }) {
    const c = this.collecting;
    if (!c) return;
    for (let i = 0; i < data.length / width; i++) {
      const at = first + i - c.from;
      if (at >= 0 && at < c.sound.length) c.sound[at] = data[i * width];
    }
    if (first + data.length / width - c.from < c.sound.length) return;
    this.collecting = null;
    c.done(c.sound);
  }

  #showLatency() {
    const field = byId("record-latency");
    if (!field) return;
    const rate = this.desk.player.context.sampleRate;
    field.textContent = this.latency ? `${((1000 * this.latency) / rate).toFixed(1)} ms` : "not measured";
  }

  // ---- while recording

  showState(recording) {
    for (const key of document.querySelectorAll("[data-record=toggle]")) {
      key.setAttribute("aria-pressed", String(recording));
      key.textContent = recording ? "Stop" : "Record";
    }
    document.body.classList.toggle("recording", recording);
    if (!recording && byId("record-time")) byId("record-trouble").hidden = true;
  }

  showTime(seconds, sending) {
    if (!byId("record-time")) return;
    write(byId("record-time"), clock(seconds, 0.1));
    write(byId("record-trouble"), sending.trouble);
    byId("record-trouble").hidden = !sending.trouble;
  }

  /** @param {{bars: number, meter: string, tempo: number, seconds: number} | null} found */
  showMap(found) {
    const box = byId("record-map");
    if (!box) return;
    box.hidden = !found;
    if (!found) return;
    byId("record-map-words").textContent =
      `${found.bars} bars of ${found.meter}, about ${Math.round(found.tempo)} a minute, in the first ${clock(found.seconds, 1)}`;
  }
}

const REFUSED = {
  NotAllowedError: "The browser does not let this page hear an input. Allow it beside the address, then try again.",
  NotFoundError: "No input was found. Connect a microphone or an interface and try again.",
  NotReadableError: "The input cannot be opened: another program may be using it.",
  NotSupportedError: "This browser records only on this machine itself, or over a secure connection (https).",
  OverconstrainedError: "This input is not there any more; choose another.",
};
