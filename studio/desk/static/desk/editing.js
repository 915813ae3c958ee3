// @ts-check
// Edits: asked of the server, previewed while a line is dragged, then made. The server snaps and decides.

import { clock } from "../studio/clock.js";
import { allAnswered, note, send } from "../studio/server.js";
import { Grid } from "./grid.js";

/** @typedef {Pick<import("./desk.js").Desk, "before" | "bpmAt" | "endPreview" | "facts" | "grid" | "news" | "pointer" | "reach" | "reshaping" | "setMap" | "showPreview" | "step" | "tip" | "view">} Needs what this uses of the desk */

export class Editing {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.asking = false; // one preview at a time; the latest wish waits
    this.wish = null;
    this.queue = Promise.resolve();
  }

  get url() {
    return `/sessions/${this.desk.facts.id}`;
  }

  /** Make an edit; edits asked for in quick succession are made one after another, each on the last one's map. */
  make(edit) {
    return this.inTurn(() => this.#make(edit));
  }

  /** What reads or writes the map waits for what does so already: an older map must not arrive after a newer one. */
  inTurn(work) {
    this.queue = this.queue.then(work, work);
    return this.queue;
  }

  async #make(edit) {
    this.endGlance();
    if (clock.key) return note("The map is edited on the recording: Ctrl Enter goes there.", true);
    const { ok, status, data } = await send(`${this.url}/edit`, { ...edit, step: this.desk.step, had: true });
    if (ok || status === 409) this.desk.setMap(data);
    else this.desk.endPreview();
    if (data.contradicts)
      note(data.error, true, { words: "Take that back and do it", act: () => this.make({ ...edit, overrule: true }) });
    else if (!ok) note(data.error ?? "The edit could not be made.", true);
    if (data.unchanged) note("That changes nothing.");
    if (ok && !data.unchanged) this.#offerFlip(data.flipped);
    return ok;
  }

  /** The edit just made has another meaning for the bar lines behind it: say which was taken, and offer the other. */
  #offerFlip(flipped) {
    this.flipNote?.remove();
    this.flipped = flipped ?? null;
    if (!flipped) return;
    const counts = flipped.bars === "count on";
    this.flipNote = note(
      counts ? "Later bar lines stay on their beats; this bar has its new count." : "Bars count on from here.",
      false,
      { words: counts ? "Count on from here (~)" : "Keep later bar lines (~)", act: () => this.flip() },
    );
  }

  /** The last edit with the other meaning for later bar lines. */
  async flip() {
    const { flipped } = this;
    if (!flipped) return note("The last edit left all bars as they were.", true);
    this.flipNote?.remove();
    await this.undoRedo(-1);
    return this.make(flipped);
  }

  /** Undo (-1), redo (+1) or any number of steps. */
  undoRedo(by) {
    return this.#go({ by });
  }

  /** Go to any step, such as a named version. */
  goTo(step) {
    return this.#go({ to: step });
  }

  #go(where) {
    return this.inTurn(async () => {
      await allAnswered();
      const { ok, status, data } = await send(`${this.url}/undo`, { ...where, step: this.desk.step });
      const result = clock.key;
      if (result) await this.desk.reshaping.show("");
      if (ok || status === 409) this.desk.setMap(data);
      if (ok) await this.desk.news.reload();
      if (result) await this.desk.reshaping.ask(true);
      if (!ok) note(data.error, true);
    });
  }

  /** Show what an edit would do, without making it, until `endGlance`. */
  glance(edit) {
    this.dropped = false;
    this.glancing = true;
    this.preview(edit);
  }

  endGlance() {
    if (!this.glancing) return;
    this.glancing = false;
    this.dropped = true;
    this.wish = null;
    this.desk.endPreview();
  }

  async preview(edit) {
    if (clock.key) return; // the map is edited on the recording
    this.wish = edit;
    if (this.asking) return;
    this.asking = true;
    while (this.wish) {
      const now = this.wish;
      this.wish = null;
      const { step } = this.desk;
      const { ok, data } = await send(`${this.url}/edit`, { ...now, step, preview: true, had: true });
      if (this.dropped || step !== this.desk.step) break;
      if (ok) this.desk.showPreview(Grid.of(data.grid, this.desk.before ?? this.desk.grid), data.name);
      else if (data.error) this.desk.tip(data.error);
    }
    this.asking = false;
  }

  /** Drag the beat `index` from a pointerdown on `canvas` until it is let go; Escape takes it back. */
  dragBeat(canvas, down, index, trackAt) {
    const { desk } = this;
    this.#drag(canvas, down, (e, box) => ({
      kind: "move",
      beat: index,
      to: desk.view.time(e.clientX - box.left),
      free: e.altKey,
      reach: desk.reach,
      snap_within: 14 * desk.view.perPixel,
      track: trackAt(e.clientY - box.top),
    }));
  }

  /** Drag the tempo of the beat `index` up or down in the contour. */
  dragTempo(canvas, down, index) {
    const { desk } = this;
    this.#drag(canvas, down, (e, box) => ({
      kind: "tempo",
      beat: index,
      bpm: desk.bpmAt(e.clientY - box.top),
      reach: desk.reach,
    }));
  }

  /** Drag the start or the end of the mapped music. */
  dragEnd(canvas, down, kind) {
    const { desk } = this;
    this.#drag(canvas, down, (e, box) => ({ kind, to: desk.view.time(e.clientX - box.left) }));
  }

  #drag(canvas, down, wanted) {
    const { desk } = this;
    const box = canvas.getBoundingClientRect();
    let edit = null;
    this.dropped = false;
    const move = (e) => {
      if (!edit && Math.hypot(e.clientX - down.clientX, e.clientY - down.clientY) < 3) return;
      desk.pointer = [e.clientX, e.clientY];
      edit = wanted(e, box);
      this.preview(edit);
    };
    const end = (save) => {
      this.dropped = true;
      this.wish = null;
      canvas.removeEventListener("pointermove", move);
      canvas.removeEventListener("pointerup", up);
      canvas.removeEventListener("pointercancel", cancel);
      removeEventListener("keydown", escape, true);
      desk.tip("");
      desk.pointer = null;
      if (save && edit) this.make(edit);
      else desk.endPreview();
    };
    const up = (e) => {
      move(e);
      end(true);
    };
    const cancel = () => end(false);
    const escape = (e) => {
      if (e.key !== "Escape") return;
      e.stopPropagation();
      end(false);
    };
    canvas.setPointerCapture(down.pointerId);
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerup", up);
    canvas.addEventListener("pointercancel", cancel);
    addEventListener("keydown", escape, true);
  }
}
