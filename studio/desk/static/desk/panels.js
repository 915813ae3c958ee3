// @ts-check
// The stages along the top, the side panel of each, the panes inside one, and the sheets that belong to some.

import { setLead } from "./switches.js";
import { addressOf } from "../studio/address.js";
import { allAnswered, fill, isOvertaken } from "../studio/server.js";

/** @typedef {Pick<import("./desk.js").Desk, "clickLevel" | "compare" | "doubts" | "facts" | "follows" | "marks" | "parts" | "player" | "reach" | "reshaping" | "selected" | "setReach" | "step" | "stretches">} Needs what this uses of the desk */

const SHEETS = { lean: "lean", score: "score" }; // pane: address of its sheet
/** Milliseconds until a panel that did not come is asked for again. */
const AGAIN = 1000;
const byId = (id) => document.getElementById(id);

export class Panels {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.stage = null;
    this.filled = null; // the stage whose panel is there
    this.pane = "doubts";
    for (const b of document.querySelectorAll("[data-stage]")) b.onclick = () => this.open(b.dataset.stage);
    const asked = new WeakMap(); // when, by request
    document.body.addEventListener("htmx:beforeSend", (e) => {
      asked.set(/** @type {CustomEvent} */ (e).detail.xhr, performance.now());
    });
    document.body.addEventListener("htmx:beforeSwap", (e) => {
      const { target, pathInfo, xhr } = /** @type {CustomEvent} */ (e).detail;
      const stage = target.id === "panel" && pathInfo.requestPath.match(/\/panel\/(\w+)/)?.[1];
      if (!stage || !e.detail.shouldSwap) return;
      e.detail.shouldSwap = this.#isNews(stage, asked.get(xhr));
      if (!e.detail.shouldSwap) return;
      // another stage's panel replaces what is there, its own is made over, which keeps the focus and what is open
      e.detail.swapOverride = stage === this.filled ? "morph:innerHTML" : "innerHTML";
      this.filled = stage;
    });
    // right after the swap, before the screen shows all panes at once
    document.body.addEventListener("htmx:afterSwap", (e) => e.target.id === "panel" && this.#shown());
    // where the server was away, or busy for too long, it is asked again
    document.body.addEventListener("htmx:afterRequest", (e) => {
      const { target, xhr, requestConfig } = /** @type {CustomEvent} */ (e).detail;
      const failed = xhr.status === 0 || xhr.status >= 500;
      if (target?.id === "panel" && requestConfig.verb === "get" && failed) this.refresh(AGAIN);
    });
  }

  /** A late answer is not shown: that of the stage before, or one that a change has overtaken, which is asked for again. */
  #isNews(stage, asked) {
    if (stage !== this.stage) return false;
    if (stage === "reshape" && this.desk.reshaping.changing) return false; // it asks for the panel itself
    const overtaken = isOvertaken(asked);
    if (overtaken) allAnswered().then(() => this.refresh());
    return !overtaken;
  }

  /** Open the panel of a stage. */
  open(stage) {
    this.stage = stage;
    byId("leanview").hidden = true;
    for (const b of document.querySelectorAll("[data-stage]"))
      b.setAttribute("aria-selected", b.dataset.stage === stage);
    this.refresh();
  }

  /** Ask for the open panel anew, once for a burst of reasons. */
  refresh(after = 60) {
    const { desk } = this;
    const beat = this.stage === "check" && desk.selected !== null ? `?beat=${desk.selected}` : "";
    clearTimeout(this.timer);
    this.timer = setTimeout(() => {
      fill("#panel", `/sessions/${desk.facts.id}/panel/${this.stage}${beat}`);
      if (this.stage === this.filled) this.renewPanes();
    }, after);
  }

  /** Panes that load themselves do so once, then whenever they are told to. */
  renewPanes() {
    for (const pane of document.querySelectorAll("#panel [hx-trigger^=renew]")) globalThis.htmx.trigger(pane, "renew");
  }

  /** Turn to a pane of the Check stage with the cursor in one of its fields, or on one of its buttons. */
  reach(pane, selector) {
    this.pane = pane;
    this.wanted = `[data-shows=${pane}] ${selector}`;
    if (this.stage !== "check") return this.open("check");
    this.turn(pane);
    return this.#reached();
  }

  #reached() {
    const field = this.wanted && document.querySelector(this.wanted);
    if (!field) return; // it comes with the panel that was asked for
    this.wanted = null;
    field.closest("details")?.setAttribute("open", "");
    field.focus();
    field.select?.();
  }

  #shown() {
    const { desk } = this;
    setLead(desk, desk.player.bars);
    desk.setReach(desk.reach);
    this.turn(this.pane);
    desk.reshaping.mark();
    // in the zone of whoever looks
    for (const el of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-made]")))
      el.title = `${el.textContent}, ${new Date(el.dataset.made).toLocaleString([], { dateStyle: "medium", timeStyle: "short" })}`;
    for (const part of [desk.doubts, desk.marks, desk.compare]) part.show();
    this.#reached();
    if (byId("click-pan")) byId("click-pan").value = desk.player.clickPan;
  }

  /** Turn to a pane of the open panel; where it has no such pane, to its first. */
  turn(pane) {
    const tabs = [...document.querySelectorAll("[data-pane]")];
    const known = tabs.some((b) => b.dataset.pane === pane);
    this.pane = known || !tabs.length ? pane : tabs[0].dataset.pane;
    for (const b of tabs) b.setAttribute("aria-selected", b.dataset.pane === this.pane);
    for (const el of document.querySelectorAll("[data-shows]")) el.hidden = el.dataset.shows !== this.pane;
    if (this.pane === "stretch") this.desk.stretches.show();
    /** @type {HTMLAnchorElement} */ (byId("manual")).href =
      `${addressOf("/manual")}/${this.stage}#${tabs.length ? this.pane : this.stage}`;
    this.#sheet();
  }

  /** Some panes have a sheet over the lanes. */
  #sheet() {
    const sheet = this.stage === "follow" ? SHEETS[this.pane] : undefined;
    const changed = byId("leanview").dataset.of !== sheet;
    byId("leanview").hidden = !sheet;
    byId("leanview").dataset.of = sheet ?? "";
    if (!sheet || this.desk.step === null) return;
    if (changed) byId("leanview").replaceChildren();
    const source = sheet === "score" && this.scored ? `?source=${this.scored}` : "";
    fill("#leanview", `/sessions/${this.desk.facts.id}/${sheet}${source}`, changed);
  }

  /** The notation of a part. */
  score(source) {
    this.scored = source;
    this.desk.parts.roll.close();
    this.turn("score");
  }

  /** Which stages are behind us. */
  tick() {
    const { facts, step } = this.desk;
    const done = { gather: facts.tracks.length > 0, guide: step !== null, find: step !== null };
    for (const b of document.querySelectorAll("[data-stage]"))
      b.classList.toggle("done", done[b.dataset.stage] ?? false);
  }
}
