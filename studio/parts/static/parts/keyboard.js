// @ts-check
// Playing a part in: a MIDI device, or the simulated keyboard that stands in for one. Both hand over the same
// messages, which are stamped with the take's seconds and turned into notes by the server.

import { clock } from "../studio/clock.js";
import { post } from "../studio/outbox.js";
import { getJson, note } from "../studio/server.js";

/** @typedef {Pick<import("../desk/desk.js").Desk, "facts" | "player">} Needs what this uses of the desk */

/** The simulated keyboard: sends a made-up take while the recording plays, through the interface of a MIDI input. */
export class SimulatedInput {
  /** @param {Needs} desk */
  constructor(desk, messages) {
    this.name = "Simulated keyboard";
    this.onmidimessage = null;
    let next = 0;
    while (next < messages.length && messages[next][0] < desk.player.seconds) next++;
    this.timer = setInterval(() => {
      const now = desk.player.playing ? desk.player.seconds : -1;
      for (; next < messages.length && messages[next][0] <= now; next++) {
        // stamped like a device's, by the moment at which the key went down
        const late = now - messages[next][0];
        this.onmidimessage?.({ data: messages[next].slice(1), timeStamp: performance.now() - 1000 * late });
      }
    }, 4);
  }

  close() {
    clearInterval(this.timer);
  }
}

export class Keyboard {
  /** @param {Needs} desk */
  constructor(desk) {
    // a panel that has just come from the server does not know that notes are being taken down
    document.body.addEventListener("htmx:afterSwap", () => this.#tell());
    this.desk = desk;
    this.inputs = null;
    this.messages = [];
    this.listeners = new Set(); // who else wants each message, such as a held section
    addEventListener("beforeunload", (e) => this.recording && this.messages.length && e.preventDefault());
    document.addEventListener("click", (e) => {
      const what = e.target.closest("[data-keyboard]")?.dataset.keyboard;
      if (what === "note")
        [
          [0x90, 60, 100],
          [0x80, 60, 0],
        ].forEach((data) => this.hear({ data, timeStamp: performance.now() }));
      else if (what === "stop") this.stop();
      else if (what) this.record(what);
    });
  }

  get recording() {
    return this.inputs !== null;
  }

  /** Listen to the devices there are, or to the simulated one, and play. */
  async record(which) {
    if (this.recording) return this.stop();
    if (clock.key) return note("A part is played in on the recording: Ctrl Enter goes there.", true);
    const { desk } = this;
    this.messages = [];
    if (which === "simulated") {
      const { messages } = await getJson(`/sessions/${desk.facts.id}/parts/simulated`);
      this.inputs = [new SimulatedInput(desk, messages)];
    } else {
      this.inputs = await devices();
      if (!this.inputs.length) {
        this.inputs = null;
        return note(
          "The browser finds no MIDI keyboard. Connect one, switch it on, and press Record keys again.",
          true,
        );
      }
    }
    for (const input of this.inputs) input.onmidimessage = (e) => this.hear(e);
    this.#tell();
    if (!desk.player.playing) await desk.player.play();
    return undefined;
  }

  /** Hear what devices send without writing it down. */
  async listen() {
    for (const input of await devices()) input.onmidimessage = (e) => this.hear(e);
  }

  /** A message arrived: from a device, the simulated keyboard, or a test. */
  hear({ data, timeStamp }) {
    this.listeners.forEach((f) => f(data));
    if (!this.recording || data.length < 2) return;
    const ago = Math.max(0, performance.now() - timeStamp) / 1000;
    this.messages.push([this.desk.player.seconds - this.desk.player.pace * ago, data[0], data[1], data[2] ?? 0]);
  }

  async stop() {
    if (!this.recording) return;
    const { desk } = this;
    for (const input of this.inputs) input.close?.();
    this.inputs = null;
    const end = desk.player.seconds;
    await desk.player.pause();
    this.#tell();
    const url = `/sessions/${desk.facts.id}/parts/record`;
    const { ok, data } = await post(url, { messages: this.messages, end }, `played in at ${performance.now()}`);
    if (!ok) return undefined; // it was said why
    note(`${data.notes} notes played in.`);
    document.body.dispatchEvent(new CustomEvent("parts-changed"));
    const pane = document.getElementById("parts");
    if (pane) globalThis.htmx.trigger(pane, "renew");
    return undefined;
  }

  #tell() {
    document.body.classList.toggle("recording", this.recording);
    for (const el of document.querySelectorAll("[data-keyboard=stop]")) el.hidden = !this.recording;
  }
}

async function devices() {
  try {
    const access = await navigator.requestMIDIAccess();
    return [...access.inputs.values()];
  } catch {
    return [];
  }
}
