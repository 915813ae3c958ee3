// @ts-check
// What happens on the server while the page is open: steps made by requests, tracks that were analysed, maps that were
// found or edited in another window.

import { addressOf } from "../studio/address.js";
import { fill, note, tryJson } from "../studio/server.js";
import { showTitle } from "./naming.js";

/** @typedef {Pick<import("./desk.js").Desk, "before" | "chords" | "editing" | "facts" | "mapped" | "order" | "panels" | "parts" | "player" | "recording" | "setFacts" | "setMap" | "step">} Needs what this uses of the desk */

/** Milliseconds between two looks at the progress of work, and where nothing is worked on. */
const BUSY_EVERY = 800;
const QUIET_EVERY = 3000;

export class News {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    document.addEventListener("step-made", (e) => {
      const [before, after] = /** @type {CustomEvent} */ (e).detail;
      this.#stepMade(before, after);
    });
    // while something is worked on, its progress is asked for more often
    setInterval(() => document.body.dataset.busy !== "no" && this.look(), BUSY_EVERY);
    setInterval(() => this.look(), QUIET_EVERY);
    document.body.addEventListener("tracks-changed", () => this.reload().then(() => desk.panels.refresh()));
    document.body.addEventListener("session-state", (e) => this.#sessionState(/** @type {CustomEvent} */ (e).detail));
  }

  /** Ask what is worked on; with the answer comes what is new. One question at a time. */
  async look() {
    if (this.looking || document.hidden) return;
    this.looking = true;
    await fill("#jobs", `${this.#session}/jobs`);
    this.looking = false;
  }

  get #session() {
    return `/sessions/${this.desk.facts.id}`;
  }

  /** A request made a step in which the map stayed as it is; where others were made before it, they are caught up on. */
  #stepMade(before, after) {
    const { desk } = this;
    if (before !== desk.step) return void desk.editing.inTurn(() => this.#seeMap());
    desk.step = after;
    if (desk.panels.stage === "check") desk.panels.refresh(180);
    return undefined;
  }

  async #seeMap() {
    const map = await tryJson(`${this.#session}/map`);
    if (map && map.step !== this.desk.step) this.desk.setMap(map);
    return map;
  }

  /** Everything may have changed: an undo, or a step of long ago. */
  async reload() {
    const { desk } = this;
    if (desk.recording.pass) return; // what plays must not be laid out anew under it; it is looked at when the pass ends
    const facts = await tryJson(`${this.#session}/facts`);
    if (desk.recording.pass) return;
    if (facts) {
      desk.setFacts(facts);
      showTitle(facts.title);
    }
    desk.player.mix();
    desk.chords.ask();
    desk.order.ask();
    desk.panels.renewPanes();
    await desk.parts.follow();
  }

  /** @param {{chords: number | null, busy: boolean, version: string, step: number | null, analysed: number, tracks: number}} news */
  #sessionState({ chords, busy, version, ...state }) {
    this.desk.chords.catchUp(chords);
    if (!import.meta.url.includes(`/${version}/`)) this.#offerNewPage();
    const now = busy ? "yes" : "no";
    // panes tell what a job is making, or has made
    if (document.body.dataset.busy && document.body.dataset.busy !== now) this.desk.panels.renewPanes();
    document.body.dataset.busy = now;
    return this.desk.editing.inTurn(() => this.#catchUp(state));
  }

  async #catchUp({ step, analysed, tracks }) {
    const { desk } = this;
    const known = desk.facts.tracks;
    const had = known.filter((t) => t.analysed).length;
    // amid edits news are older than the page; of another window's the next edit or the next news tell
    const moved = step !== desk.step && !desk.before && performance.now() - desk.mapped > 1000;
    if (tracks === known.length && analysed === had && !moved) return;
    const facts = await tryJson(`${this.#session}/facts`);
    if (!facts) return; // the server is away; the next state tells again
    desk.setFacts(facts);
    if (facts.tracks.filter((t) => t.analysed).length > had && desk.step !== null) this.#offerSearch();
    if (!moved) return desk.panels.refresh();
    const first = desk.step === null;
    if (!(await this.#seeMap())) return;
    // whoever is writing in a panel is left there
    if (first && step && !document.activeElement?.matches("#panel input")) desk.panels.open("check");
  }

  /** The server was updated meanwhile: scripts of before may not understand it. Told once. */
  #offerNewPage() {
    if (this.outdated) return;
    this.outdated = true;
    const offer = { words: "Load it again", act: () => location.reload() };
    note("Diachron was updated while this page was open.", true, offer);
  }

  /** Tracks came to a session that has a map: it stays, and another search is offered. */
  #offerSearch() {
    note("A track was added. The map stays as it is.", false, {
      words: "Find the beats again with it",
      act: () => globalThis.htmx.ajax("POST", addressOf(`${this.#session}/find`), { target: "#jobs" }),
    });
  }
}
