// @ts-check
// Doubts: fetched after each change of the map, stepped through by key, listened to, settled.

import { toggleClick } from "./switches.js";
import { renew } from "../studio/renewing.js";
import { clock } from "../studio/clock.js";
import { note, send, tryJson } from "../studio/server.js";

/** @typedef {Pick<import("./desk.js").Desk, "clickLevel" | "editing" | "facts" | "follows" | "panels" | "player" | "redraw" | "step" | "visit">} Needs what this uses of the desk */

const PREROLL = 2; // seconds played before a doubt

export class Doubts {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.list = [];
    this.html = "";
    this.open = -1;
  }

  /** The map changed: ask again once it has been quiet for a moment. */
  later() {
    clearTimeout(this.timer);
    // the longer the take, the longer the look at it: a quick hand goes first
    this.timer = setTimeout(() => this.ask(), 150 + this.desk.facts.seconds);
  }

  async ask() {
    if (this.desk.step === null) return undefined;
    if (clock.key) {
      Object.assign(this, {
        list: [],
        html: "<p class='hint'>Doubts are about the recording: Ctrl Enter goes there.</p>",
      });
      return this.show();
    }
    const found = await tryJson(`/sessions/${this.desk.facts.id}/doubts?step=${this.desk.step}`);
    if (!found) return undefined;
    if (found.step !== this.desk.step) return this.later(); // an edit was faster
    const open = this.now; // chosen while the answer was on its way, perhaps
    const first = !this.html;
    this.list = found.list;
    this.html = found.html;
    this.open = open ? this.list.findIndex((d) => d.kind === open.kind && Math.abs(d.start - open.start) < 0.3) : -1;
    this.show();
    this.desk.redraw();
    document.body.dataset.doubts = `${this.desk.step}:${this.list.length}`;
    this.#tellElsewhere(first);
    return undefined;
  }

  /** An edit just made seems to fit another stretch: whoever made it may be in another pane. */
  #tellElsewhere(first) {
    const offer = this.list.find((d) => d.kind === "same");
    if (!offer) this.elsewhere?.remove();
    if (!offer || offer.reason === this.toldReason) return;
    this.toldReason = offer.reason; // once: not again when one comes back from the other clock
    if (first) return;
    const show = () => this.visit(this.list.findIndex((d) => d.kind === "same"));
    this.elsewhere = note("The same seems to fit elsewhere, too.", false, { words: "Show me", act: show });
  }

  show() {
    const box = document.getElementById("doubts");
    if (!box || !this.html) return;
    renew(box, this.html);
    this.#light();
  }

  #light() {
    for (const li of document.querySelectorAll("[data-doubt]")) {
      const here = Number(li.dataset.doubt) === this.open;
      li.toggleAttribute("aria-current", here);
      if (here) li.scrollIntoView({ block: "nearest" });
    }
  }

  get now() {
    return this.list[this.open];
  }

  /** The next (+1) or previous (-1) doubt of the list, gravest first. */
  step(by) {
    if (!this.list.length) return;
    const from = this.open < 0 ? (by > 0 ? -1 : 0) : this.open;
    this.visit((from + by + this.list.length) % this.list.length);
  }

  visit(number) {
    this.open = number;
    const doubt = this.now;
    this.desk.panels.turn("doubts");
    this.desk.visit(doubt.beat, doubt.start);
    this.#light();
  }

  hear() {
    const doubt = this.now;
    if (!doubt) return this.step(1);
    if (this.desk.player.clickLevel === 0) toggleClick(this.desk);
    return this.desk.player.play(Math.max(0, doubt.start - PREROLL));
  }

  take(number) {
    const remedy = this.now?.remedies[number - 1];
    return remedy && this.desk.editing.make(JSON.parse(remedy.json));
  }

  async dismiss() {
    const doubt = this.now;
    if (!doubt) return;
    const { ok, data } = await send(`/sessions/${this.desk.facts.id}/mark`, {
      kind: "fine",
      name: doubt.kind,
      stretch: [doubt.start, Math.max(doubt.end, doubt.start + 0.1)],
    });
    if (!ok) return note(data.error, true);
    await this.ask();
    if (this.list.length) this.visit(Math.min(Math.max(0, this.open), this.list.length - 1));
  }

  /** The edit by which it is right as it is: its beats are pinned. */
  get approval() {
    const { start, end } = this.now;
    return { kind: "approve", stretch: [start, end] };
  }
}
