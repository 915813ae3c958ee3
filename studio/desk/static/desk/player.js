// @ts-check
// The player's side in the page: streams blocks ahead of the mixer and keeps track of where it is.

import { stereoFactors } from "./levels.js";
import { AHEAD as LIMITER_DELAY } from "./limiter.js";
import { clocked } from "../studio/clock.js";
import { getJson, Latest, note, tryJson } from "../studio/server.js";

const AHEAD = 12; // blocks kept loaded in front while it plays
const RESTING = 3; // and while it stands still: enough to start at once
const QUANTUM = 128; // frames that the audio thread makes at once
const MOST = 48; // blocks held in all

/** The sounds of an answer, as samples. */
const soundsOf = ({ sounds }) =>
  sounds.map((s) => new Float32Array(Uint8Array.from(atob(s), (c) => c.charCodeAt(0)).buffer));

export class Player extends EventTarget {
  constructor(facts) {
    super();
    this.facts = facts;
    this.context = new AudioContext({ sampleRate: facts.rate, latencyHint: "interactive" });
    this.at = 0; // samples
    this.silent = new Set(); // keys of tracks that it was said of
    this.playing = false;
    this.leading = false;
    this.heldAt = 0; // mixer time of the last report
    this.loop = null;
    this.order = null; // where the mixer is in the running order
    this.turns = [];
    this.bars = 0; // count-in
    this.clickLevel = 0.7;
    this.latestClick = new Latest(); // an older map's click must not come after a newer one's
    this.jumps = 0;
    this.clickPan = 0;
    this.pace = 1;
    this.ears = false;
    this.mono = false;
    this.laid = "";
    this.have = new Set();
    this.asked = new Map();
    this.generation = 0;
    this.ready = this.#build();
  }

  async #build() {
    await this.context.audioWorklet.addModule(new URL("./mixer.js", import.meta.url));
    this.node = new AudioWorkletNode(this.context, "mixer", { numberOfInputs: 0, outputChannelCount: [2] });
    this.node.port.onmessage = ({ data }) => this.#report(data);
    // what is too loud is held back, and it is told: the sum of many tracks can be
    await this.context.audioWorklet.addModule(new URL("./limiter.js", import.meta.url));
    this.out = new AudioWorkletNode(this.context, "limiter", { outputChannelCount: [2] });
    this.out.port.onmessage = ({ data }) => this.dispatchEvent(new CustomEvent("limited", { detail: data }));
    this.node.connect(this.out).connect(this.context.destination);
    this.#layout();
    await this.refreshAttacks();
  }

  get seconds() {
    let at = this.at / this.facts.rate;
    if (this.playing && !this.leading && !this.waiting) {
      // what is heard now left the mixer a moment ago, and the last report is a moment old
      const since = this.context.currentTime - this.heldAt;
      at +=
        this.pace *
        (Math.min(0.1, Math.max(0, since)) - (this.context.outputLatency || 0) - LIMITER_DELAY / this.facts.rate);
    }
    return Math.max(0, at);
  }

  #post(message, transfer) {
    this.node?.port.postMessage(message, transfer);
  }

  #report(data) {
    if ((data.id ?? 0) !== this.jumps) return; // from before the last jump
    this.at = data.at;
    this.heldAt = data.time;
    this.leading = data.leading;
    this.waiting = data.waiting;
    const was = this.playing;
    this.playing = data.playing;
    this.order = data.order ?? null;
    if (was !== data.playing || data.what !== "at") this.dispatchEvent(new CustomEvent("state", { detail: data.what }));
    if (data.what === "at" && this.pressed && !data.leading) {
      this.startLatency = performance.now() - this.pressed;
      this.pressed = null;
    }
    // which sample of the session the sound card's clock plays: what is recorded has its place by that
    if (data.what === "at" && data.playing && !data.leading && !data.waiting)
      this.dispatchEvent(new CustomEvent("placed", { detail: data.at - data.frame - QUANTUM - LIMITER_DELAY }));
    this.#stream();
  }

  /** The tracks changed: begin with empty hands. */
  async relayout(facts) {
    this.facts = facts;
    await this.ready;
    this.refreshAttacks();
    this.#layout();
    this.#stream();
  }

  #layout() {
    this.generation++;
    this.have.clear();
    this.asked.clear();
    const lanes = this.#lanes;
    const gains = stereoFactors(lanes);
    const ids = (lanes) => lanes.map((l) => l.id).join();
    this.laid = `tracks=${ids(lanes.filter((l) => !l.instrument))}&parts=${ids(lanes.filter((l) => l.instrument))}`; // the order in which blocks hold them
    this.#post({
      do: "layout",
      tracks: lanes.map((t, i) => ({ channels: t.channels, gain: gains[i] })),
      size: this.facts.block,
      total: Math.round(this.facts.seconds * this.facts.rate),
    });
    this.#post({ do: "clickLevel", level: this.clickLevel });
    this.#stream();
  }

  /** What sounds: tracks that were analysed, then parts. */
  get #lanes() {
    return [...this.facts.tracks.filter((t) => t.analysed), ...this.facts.parts];
  }

  /** Tracks or parts sound otherwise now. What is about to play is replaced when the new sound has come. */
  renew() {
    this.generation++;
    this.asked.forEach((abort) => abort.abort());
    this.asked.clear();
    this.refreshAttacks();
    const near = this.#wanted().slice(0, 3);
    this.#post({ do: "drop", numbers: [...this.have].filter((n) => !near.includes(n)) });
    this.have.clear();
    this.#stream();
  }

  /** Where attacks start: slow playback does not stretch them. */
  async refreshAttacks() {
    const found = await tryJson(`/sessions/${this.facts.id}/attacks`);
    if (found) this.#post({ do: "attacks", samples: found.samples });
  }

  mix() {
    this.#post({ do: "gains", gains: stereoFactors(this.#lanes) });
  }

  /** The map's click, or that of another step to compare by ear. */
  async refreshClick(step) {
    const click = await this.latestClick.read(`/sessions/${this.facts.id}/click${step ? `?step=${step}` : ""}`);
    if (!click) return;
    await this.ready; // the page may have its map before it has the player
    this.#post({ do: "clicks", samples: click.samples, kinds: click.kinds, sounds: soundsOf(click) });
  }

  /** A click at a steady tempo from the playhead on, where there is no map yet. */
  async steadyClick(bpm) {
    const click = await this.latestClick.read(
      `/sessions/${this.facts.id}/click?bpm=${bpm}&from=${this.at / this.facts.rate}`,
    );
    if (!click) return;
    this.#post({ do: "clicks", samples: click.samples, kinds: click.kinds, sounds: soundsOf(click) });
    this.play();
  }

  /** So many beats of a steady click, where there is nothing else to play. */
  async countIn(bpm, beats) {
    const lead = await tryJson(`/sessions/${this.facts.id}/count-in?at=0&bpm=${bpm}&beats=${beats}`);
    if (!lead) return;
    this.context.resume();
    await this.ready;
    this.#post({ do: "clicks", samples: [], kinds: [], sounds: soundsOf(lead) });
    this.#post({ do: "play", at: 0, lead });
  }

  setClick(level) {
    this.clickLevel = level;
    this.#post({ do: "clickLevel", level });
  }

  /** Where the click sits, -1 left to 1 right. */
  setClickPan(pan) {
    this.clickPan = pan;
    this.#post({ do: "clickPan", pan });
  }

  /** Click left, tracks right, or both in both ears. */
  setEars(apart) {
    this.ears = apart;
    this.#post({ do: "setEars", apart });
  }

  /** Both sides in the middle: what a single loudspeaker would play. */
  setMono(mono) {
    this.mono = mono;
    this.#post({ do: "setMono", mono });
  }

  /** How fast it plays, 0.25 to 1, with pitch kept. */
  setPace(pace) {
    this.pace = pace;
    this.#post({ do: "setPace", pace });
  }

  setLoop(loop) {
    this.loop = loop && loop.map((s) => Math.round(s * this.facts.rate));
    this.#post({ do: "setLoop", loop: this.loop });
    this.#stream();
  }

  /** Follow a running order from one of its items on; null: go on as usual. */
  async follow(turns, item = 0) {
    this.turns = turns ?? [];
    this.context.resume();
    await this.ready;
    if (turns) {
      this.at = turns[item].start;
      this.order = { item, round: 0 };
    }
    this.#post({ do: "follow", order: turns, item });
    this.#stream();
  }

  release() {
    this.#post({ do: "release" });
  }

  queue(item) {
    this.#post({ do: "queue", item });
  }

  /** Which blocks should be at hand, the most urgent first. */
  #wanted() {
    const last = Math.ceil((this.facts.seconds * this.facts.rate) / this.facts.block) - 1;
    const here = Math.floor(this.at / this.facts.block);
    const out = [];
    for (let n = here; n <= Math.min(last, here + (this.playing ? AHEAD : RESTING)); n++) out.push(n);
    // and where playing may jump to
    const there = this.order
      ? [this.turns[this.order.item]?.start, this.turns[this.order.next]?.start]
      : [this.loop?.[0]];
    for (const at of there.filter((s) => s !== undefined)) {
      const start = Math.floor(Math.max(0, at - 512) / this.facts.block);
      for (let n = start; n <= Math.min(last, start + 3); n++) if (!out.includes(n)) out.push(n);
    }
    return out;
  }

  #stream() {
    if (!this.laid || !this.#lanes.length) return; // before it is laid out it knows no tracks
    const wanted = this.#wanted();
    // after a jump, what was asked for elsewhere would only stand in the way
    for (const [n, abort] of this.asked) if (!wanted.includes(n)) (abort.abort(), this.asked.delete(n));
    for (const n of wanted) if (!this.have.has(n) && !this.asked.has(n) && this.asked.size < 2) this.#fetch(n);
    if (this.have.size > MOST) {
      const far = [...this.have].filter((n) => !wanted.includes(n)).slice(0, this.have.size - MOST + 6);
      far.forEach((n) => this.have.delete(n));
      this.#post({ do: "drop", numbers: far });
    }
  }

  async #fetch(number) {
    const generation = this.generation;
    const abort = new AbortController();
    this.asked.set(number, abort);
    try {
      const url = clocked(`/sessions/${this.facts.id}/blocks/${number}?${this.laid}`);
      const response = await fetch(url, { signal: abort.signal });
      if (!response.ok) throw new Error(String(response.status));
      this.#tellSilent(response.headers.get("X-Silent"));
      const data = await response.arrayBuffer();
      if (generation !== this.generation) return;
      this.#post({ do: "block", number, data }, [data]);
      this.have.add(number);
      this.asked.delete(number);
      this.#stream();
    } catch {
      if (generation === this.generation && !abort.signal.aborted)
        setTimeout(() => (this.asked.delete(number), this.#stream()), 500);
    }
  }

  /** Tracks whose files cannot be read: said once for each. */
  #tellSilent(keys) {
    for (const key of keys?.split(",") ?? []) {
      if (this.silent.has(key)) continue;
      this.silent.add(key);
      const name = this.facts.tracks.find((t) => t.id === Number(key))?.name ?? "A track";
      note(`${name} is silent: its file is missing or damaged. The other tracks play on.`, true);
    }
  }

  async play(from = undefined) {
    this.pressed = performance.now();
    this.context.resume();
    await this.ready;
    let lead;
    if (this.bars) {
      const at = from ?? this.at / this.facts.rate;
      lead = await getJson(`/sessions/${this.facts.id}/count-in?at=${at}&bars=${this.bars}`);
    }
    this.#post({ do: "play", at: from === undefined ? undefined : from * this.facts.rate, lead });
  }

  async pause() {
    await this.ready;
    this.#post({ do: "pause" });
  }

  toggle() {
    return this.playing ? this.pause() : this.play();
  }

  async seek(seconds) {
    const at = Math.max(0, Math.round(seconds * this.facts.rate));
    const id = ++this.jumps;
    this.at = at;
    this.dispatchEvent(new CustomEvent("state", { detail: "moved" }));
    this.#stream();
    await this.ready;
    this.#post({ do: "seek", at, id });
  }
}
