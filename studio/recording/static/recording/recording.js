// @ts-check
// Recording a pass: alone, or beside what is there, from the playhead or from bar line to bar line.

import { fill, note, send } from "../studio/server.js";
import { cut } from "./cutting.js";
import { Input } from "./input.js";
import { Live } from "./live.js";
import { Sending } from "./sending.js";
import { GrowingTake } from "./take.js";

/** @typedef {Pick<import("../desk/desk.js").Desk, "facts" | "grid" | "growing" | "news" | "panels" | "player" | "redraw" | "setLoop" | "step" | "view">} Needs what this uses of the desk */

/** @typedef {{sending: Sending, from: number, to: number, anchor: number | null, early: any[], id: number, frames: number,
 * atOnce: boolean, ending: boolean}} Pass what is being recorded; `anchor`: session sample minus frame of the clock */

/** Seconds after which the map so far is looked for again, at least; it takes longer the longer the take is. */
const LOOK_EVERY = 8;

const byId = (id) => document.getElementById(id);

export class Recording {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.input = new Input(desk.player.context);
    this.live = new Live(desk, this.input);
    /** @type {null | Pass} */
    this.pass = null;
    /** @type {Set<Pass>} stopped passes whose last samples have not arrived yet */
    this.arriving = new Set();
    this.input.addEventListener("samples", (e) => this.#take(/** @type {CustomEvent} */ (e).detail));
    this.input.addEventListener("gone", () => {
      note("The input is gone: it was unplugged, or another program took it.", true);
      if (this.pass) this.stop();
    });
    desk.player.addEventListener("placed", (e) => this.#place(/** @type {CustomEvent} */ (e).detail));
    document.addEventListener("click", (e) => {
      const what = /** @type {any} */ (e.target.closest("[data-record]")?.dataset.record);
      if (what === "toggle") this.toggle();
      else if (what) this.live.do(what);
    });
    document.body.addEventListener("session-state", (e) => {
      const found = /** @type {CustomEvent} */ (e).detail.recording;
      if (!this.pass || found?.id !== this.pass.id || !found.so_far) return;
      this.live.showMap(found.so_far);
      this.take?.show(found.so_far.grid);
    });
    // away from the pane nobody sees that an input is open
    document.body.addEventListener("htmx:afterSwap", (e) => {
      if (e.target.id === "panel" && !byId("record-pane") && !this.pass) this.input.close();
    });
    addEventListener("beforeunload", (e) => (this.pass || this.arriving.size) && e.preventDefault());
  }

  get rate() {
    return this.desk.player.context.sampleRate;
  }

  toggle() {
    return this.pass || this.starting ? this.stop() : this.start();
  }

  /** Begin: as the pane says, or from the playhead. */
  async start() {
    if (this.starting) return;
    this.starting = true;
    try {
      if (!this.input.isOpen && !(await this.live.open())) return;
      await this.#begin();
    } finally {
      this.starting = false;
      this.live.showState(this.pass !== null);
    }
  }

  async #begin() {
    const { facts, player } = this.desk;
    await player.ready;
    if (player.playing) await player.pause();
    const alone = !facts.tracks.length && !facts.parts.length;
    let times = { play: player.at / this.rate, first: player.at / this.rate, last: null };
    if (alone) times = { play: 0, first: 0, last: null };
    else if (byId("punch-first")?.value) {
      const fields = new URLSearchParams({ first: byId("punch-first").value, last: byId("punch-last").value });
      fields.set("before", byId("punch-before").value || "0");
      const answer = await send(`/sessions/${facts.id}/record/punch?${fields}`, undefined, "GET");
      if (!answer.ok) return void note(answer.data.error, true);
      times = answer.data;
    }
    const width = this.input.channels.length;
    const from = Math.round(times.first * this.rate);
    const to = times.last === null ? Infinity : Math.round(times.last * this.rate);
    const name = byId("pass-name")?.value ?? "";
    const body = { name, rate: this.rate, channels: width, starts: from / this.rate };
    const begun = await send(`/sessions/${facts.id}/recordings`, body);
    if (!begun.ok) return void note(begun.data.error ?? "Recording could not begin.", true);
    const sending = new Sending(begun.data.id, width);
    this.pass = {
      id: begun.data.id,
      sending,
      from,
      to,
      anchor: null,
      early: [],
      frames: 0,
      atOnce: false,
      ending: false,
    };
    sending.goOn = () => this.#goOn(this.pass ?? ended, { ...body, name: `${name || "Take"}, continued` });
    const ended = this.pass; // also while its last samples are on their way
    this.looked = LOOK_EVERY;
    this.live.showMap(null);
    this.take = alone ? new GrowingTake(this.desk, this.rate) : null;
    if (alone) await this.#alone();
    else {
      this.desk.setLoop(null);
      player.setPace(1); // what is played slowly cannot be recorded to
      await player.play(times.play);
    }
  }

  /** Another pass for what does not fit into this one any more; it begins where that ends. */
  async #goOn(pass, body) {
    const starts = (pass.from + pass.sending.before + pass.sending.sent) / this.rate;
    const begun = await send(`/sessions/${this.desk.facts.id}/recordings`, { ...body, starts });
    if (!begun.ok) return null;
    note("The pass was ended elsewhere; what you play goes on in another one.");
    pass.id = begun.data.id;
    return begun.data.id;
  }

  /** Nothing is there to play to: a count-in, or at once. */
  async #alone() {
    const beats = Number(byId("count-in-beats")?.value) || 0;
    const bpm = Number(byId("count-in-bpm")?.value) || 0;
    this.#place("at once"); // also while it is counted in: a pickup comes before bar 1
    if (beats && bpm) await this.desk.player.countIn(bpm, beats);
  }

  /** Which sample of the session belongs to which frame of the sound card's clock. */
  #place(anchor) {
    const { pass } = this;
    if (!pass) return;
    if (anchor === "at once") pass.atOnce = true;
    else if (pass.atOnce) return;
    else if (pass.anchor === null || !pass.frames) pass.anchor = anchor - this.live.latency;
    else if (Math.abs(anchor - this.live.latency - pass.anchor) > 1) {
      note("Playing stopped for a moment while recording; the pass ends there, so that nothing is out of place.", true);
      this.stop();
    }
  }

  /** Samples from the input; those before the pass has its place wait. */
  #take(stretch) {
    this.live.hear(stretch);
    const { pass } = this;
    if (!pass || stretch.width !== pass.sending.width) return;
    if (pass.atOnce && pass.anchor === null) pass.anchor = -stretch.first; // its first sample is the session's
    pass.early.push(stretch);
    if (pass.anchor === null) return;
    for (const s of pass.early.splice(0)) {
      const { data, ends } = cut(s, pass.anchor, pass.from, pass.to);
      pass.sending.add(data);
      this.take?.add(data, s.width);
      pass.frames += data.length / s.width;
      if (ends) return void this.stop();
    }
    this.live.showTime(pass.frames / this.rate, pass.sending);
    if (pass.frames / this.rate > this.looked) {
      this.looked = Math.max(this.looked + LOOK_EVERY, 1.25 * this.looked);
      send(`/recordings/${pass.id}/look`);
    }
  }

  async stop() {
    const { pass, desk } = this;
    if (!pass || pass.ending) return;
    pass.ending = true;
    this.pass = null;
    this.take?.end();
    this.take = null;
    this.live.showState(false);
    if (desk.player.playing) desk.player.pause();
    await this.#arrived(pass);
    const ended = await this.#end(pass.id);
    if (!ended.ok) return void note(ended.data.error ?? "The pass could not be ended; it is kept.", true);
    note(`${ended.data.name}: ${(pass.frames / this.rate).toFixed(1)} s recorded.`);
    await send(`/sessions/${desk.facts.id}/find?first=1`); // a map that is there already stays
    await desk.news.reload();
    desk.panels.refresh();
    fill("#record-pane", `/sessions/${desk.facts.id}/record`);
  }

  /** Resolves when the server has all of a pass. If that fails for now, a note says how much is missing. */
  async #arrived(pass) {
    this.arriving.add(pass);
    const told = [];
    const look = setInterval(() => {
      const { trouble } = pass.sending;
      if (!trouble) return;
      clearInterval(look);
      const rest = pass.sending.behind(this.rate).toFixed(1);
      told.push(note(`${rest} s of what you played are only in this page so far: leave it open. ${trouble}`, true));
    }, 500);
    await pass.sending.drained();
    clearInterval(look);
    told[0]?.remove();
    this.arriving.delete(pass);
  }

  /** The server may be starting again. */
  async #end(id) {
    for (let tries = 0; ; tries++) {
      const answer = await send(`/recordings/${id}/end`);
      if (answer.status !== 0 || tries > 20) return answer;
      await new Promise((done) => setTimeout(done, 500));
    }
  }
}
