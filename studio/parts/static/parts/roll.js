// @ts-check
// The roll: a part's notes on a grid of musical positions. Columns and positions come from the server; the page only
// draws them and tells which one was meant.

import { HEAD, LEFT, DRUMS, drawRoll } from "./roll_drawing.js";
import { AWAY, Latest, note as tell, send } from "../studio/server.js";

/** @typedef {Pick<import("../desk/desk.js").Desk, "bar" | "editing" | "go" | "grid" | "wake">} Needs what this uses of the desk */

const EDGE = 7; // pixels at a note's end that take hold of its length
/** General MIDI percussion keys the kit has, from top to bottom. */
const byId = (id) => document.getElementById(id);

export class Roll {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.box = byId("roll");
    this.canvas = this.box.querySelector("canvas");
    this.part = null;
    this.first = 1;
    this.top = 60; // highest pitch shown
    this.chosen = new Set();
    this.latest = new Latest(); // an answer that comes late must not bring back notes of before
    this.ghost = null; // notes as a quantise in preview would have them
    this.#listen();
  }

  get shown() {
    return this.part !== null;
  }

  async open(part) {
    this.part = part;
    this.chosen.clear();
    this.box.hidden = false;
    document.body.classList.add("rolled");
    const bar = this.desk.grid ? this.desk.bar : 1;
    this.first = Math.max(1, bar - ((bar - 1) % Number(this.field("bars").value)));
    await this.refresh();
    if (this.data?.part !== this.part) return;
    const { pitches, instrument } = this.data;
    if (pitches.length) this.top = Math.min(127, pitches.at(-1) + 4);
    else this.top = { bass: 55, pad: 79 }[instrument] ?? 79;
    this.draw();
  }

  close() {
    this.part = null;
    this.box.hidden = true;
    document.body.classList.remove("rolled");
  }

  field(name) {
    return this.box.querySelector(`[name=${name}]`);
  }

  get asked() {
    return {
      first: this.first,
      bars: Number(this.field("bars").value),
      grid: Number(this.field("grid").value),
      triplet: this.field("triplet").checked,
      swing: Number(this.field("swing").value),
    };
  }

  /** The parts there are now: one that is gone cannot be edited. */
  follow(parts) {
    if (this.shown && !parts.some((p) => p.id === this.part)) this.close();
    return this.refresh();
  }

  /** Returns what came; null: the server does not answer, undefined: it is not wanted any more. */
  async refresh() {
    if (!this.shown) return undefined;
    const data = await this.latest.read(
      `/parts/${this.part}/roll?${new URLSearchParams(Object.entries(this.asked).map(([name, value]) => [name, String(value)]))}`,
    );
    if (data?.part === this.part) this.#take(data);
    else if (data === null && this.data?.part !== this.part) this.close(); // nothing of it is here to be shown
    return data;
  }

  #take(data) {
    this.data = data;
    this.ghost = null;
    const there = new Set(data.notes.map((n) => n.i));
    this.chosen = new Set([...this.chosen].filter((i) => there.has(i)));
    this.box.querySelector("h2").textContent = data.name;
    this.box.querySelector("[data-tie]").textContent = data.rides ? "rides the bars" : "keeps the clock";
    // drums and the beats of an audio loop are rows of steps
    this.rows =
      data.instrument === "drums"
        ? [...DRUMS.keys()]
        : data.slices
          ? Array.from({ length: data.slices }, (_, i) => i)
          : null;
    this.draw();
  }

  /** One edit after the other: each is made on what the one before left. */
  make(edit) {
    this.last = (this.last ?? Promise.resolve()).then(() => this.#make(edit));
    return this.last;
  }

  async #make(edit) {
    if (!this.shown || this.data?.part !== this.part) return;
    const { ok, data } = await send(`/parts/${this.part}/roll`, { ...this.asked, step: this.data.step, ...edit });
    if (data.error || !ok) tell(data.error, true);
    if (!data.columns) return;
    // where notes came or went, the chosen ones have other places now
    if (edit.do !== "add" && data.notes.length !== this.data.notes.length) this.chosen.clear();
    this.latest.overtake();
    this.#take(data);
    if (ok) document.body.dispatchEvent(new CustomEvent("parts-changed"));
  }

  async preview() {
    if (!this.shown || this.data?.part !== this.part) return;
    const { ok, data } = await send(`/parts/${this.part}/roll`, {
      ...this.asked,
      step: this.data.step,
      ...this.quantiseOptions,
      preview: true,
    });
    if (!ok) return;
    this.ghost = data.notes;
    this.draw();
  }

  get quantiseOptions() {
    return {
      do: "quantise",
      strength: Number(this.field("strength").value),
      window: Number(this.field("window").value),
      lengths: this.field("lengths").checked,
      notes: [...this.chosen],
    };
  }

  // ---- geometry

  get scale() {
    return (this.canvas.clientWidth - LEFT - 12) / this.data.end;
  }

  x(q) {
    return LEFT + q * this.scale;
  }

  get pitches() {
    if (this.rows) return this.rows;
    const count = Math.floor((this.canvas.clientHeight - HEAD) / 16);
    return Array.from({ length: count }, (_, i) => this.top - i);
  }

  get row() {
    return this.rows ? Math.min(34, (this.canvas.clientHeight - HEAD) / this.rows.length) : 16;
  }

  rowOf(pitch) {
    return this.rows ? this.rows.indexOf(pitch) : this.top - pitch;
  }

  columnAt(x) {
    const q = (x - LEFT) / this.scale;
    const { columns } = this.data;
    const i = columns.findLastIndex((c) => c.q <= q + 1e-9);
    return i < 0 || q > this.data.end ? null : columns[i];
  }

  noteAt(x, y) {
    const pitch = this.pitches[Math.floor((y - HEAD) / this.row)];
    return this.data.notes.findLast(
      (n) =>
        n.i >= 0 && n.pitch === pitch && x >= this.x(n.q) - 2 && x <= Math.max(this.x(n.q + n.length), this.x(n.q) + 8),
    );
  }

  // ---- pointer and keys

  #listen() {
    const { canvas } = this;
    canvas.addEventListener("pointerdown", (e) => this.#down(e));
    canvas.addEventListener("contextmenu", (e) => e.preventDefault());
    canvas.addEventListener("pointermove", (e) => {
      if (!this.data || e.buttons) return;
      const n = this.noteAt(e.offsetX, e.offsetY);
      canvas.style.cursor = !n
        ? "crosshair"
        : !this.rows && e.offsetX > this.x(n.q + n.length) - EDGE
          ? "ew-resize"
          : "grab";
    });
    canvas.addEventListener(
      "wheel",
      (e) => {
        e.preventDefault();
        if (e.shiftKey || Math.abs(e.deltaX) > Math.abs(e.deltaY)) return this.turn(Math.sign(e.deltaY || e.deltaX));
        this.top = Math.max(24, Math.min(127, this.top - Math.sign(e.deltaY) * 2));
        return this.draw();
      },
      { passive: false },
    );
    this.box.addEventListener("input", (e) => {
      const { name } = e.target;
      if (name === "velocity")
        return (
          this.chosen.size && this.make({ do: "loudness", notes: [...this.chosen], velocity: Number(e.target.value) })
        );
      if (["swing", "strength", "window", "lengths"].includes(name)) return this.preview();
      if (["grid", "triplet", "bars"].includes(name)) return this.refresh();
      return undefined;
    });
    const acts = {
      back: () => this.turn(-1),
      on: () => this.turn(1),
      close: () => this.close(),
      quantise: () => this.make(this.quantiseOptions),
      undo: () => this.desk.editing.undoRedo(-1),
      redo: () => this.desk.editing.undoRedo(1),
      before: (b) => {
        const was = b.getAttribute("aria-pressed") === "true";
        b.setAttribute("aria-pressed", !was);
        return this.desk.editing.undoRedo(was ? 1 : -1);
      },
      repeat: () =>
        this.make({
          do: "repeat",
          from: this.first,
          to: this.first + this.asked.bars - 1,
          times: Number(this.field("times").value),
        }),
    };
    this.box.addEventListener("click", (e) => {
      const b = e.target.closest("[data-act]");
      if (b) acts[b.dataset.act](b);
    });
    addEventListener("keydown", (e) => this.#key(e), { capture: true });
  }

  async turn(by) {
    this.first = Math.max(1, Math.min(this.data.last, this.first + by * this.asked.bars));
    if ((await this.refresh()) !== null) return;
    this.first = this.data.first; // those bars are still shown
    tell(AWAY, true);
  }

  #key(e) {
    if (!this.shown || e.target.closest?.("input:not([type=range]):not([type=checkbox]), select, textarea, dialog"))
      return;
    const some = this.chosen.size > 0;
    const notes = [...this.chosen];
    const key = (e.ctrlKey || e.metaKey ? "Ctrl+" : "") + (e.shiftKey ? "Shift+" : "") + e.key;
    const act = {
      Delete: () => some && this.make({ do: "remove", notes }),
      Backspace: () => some && this.make({ do: "remove", notes }),
      ArrowLeft: () => (some ? this.make({ do: "move", notes, columns: -1 }) : this.turn(-1)),
      ArrowRight: () => (some ? this.make({ do: "move", notes, columns: 1 }) : this.turn(1)),
      ArrowUp: () => some && this.make({ do: "move", notes, columns: 0, semitones: 1 }),
      ArrowDown: () => some && this.make({ do: "move", notes, columns: 0, semitones: -1 }),
      "Shift+ArrowUp": () => some && this.make({ do: "move", notes, columns: 0, semitones: 12 }),
      "Shift+ArrowDown": () => some && this.make({ do: "move", notes, columns: 0, semitones: -12 }),
      "Ctrl+a": () => ((this.chosen = new Set(this.data.notes.map((n) => n.i))), this.draw()),
      Escape: () => (some ? (this.chosen.clear(), this.draw()) : this.close()),
    }[key];
    if (!act || (e.target.matches?.("input[type=range]") && key.startsWith("Arrow"))) return;
    e.preventDefault();
    e.stopPropagation();
    act();
  }

  #down(e) {
    if (!this.data) return;
    this.desk.wake();
    const [x, y] = [e.offsetX, e.offsetY];
    if (x < LEFT || y < HEAD) {
      const column = y < HEAD && this.columnAt(x);
      if (column) this.desk.go(this.data.seconds[this.data.columns.indexOf(column)]);
      return;
    }
    const hit = this.noteAt(x, y);
    if (e.button === 2) return hit && this.make({ do: "remove", notes: [hit.i] });
    if (hit && this.rows) return this.make({ do: "remove", notes: [hit.i] }); // a step is on or off
    if (hit) return this.#drag(e, hit);
    const column = this.columnAt(x);
    const pitch = this.pitches[Math.floor((y - HEAD) / this.row)];
    if (!column || pitch === undefined) return undefined;
    this.chosen.clear();
    const velocity = Number(this.field("velocity").value);
    if (this.rows)
      return this.make({
        do: "add",
        bar: column.bar,
        offset: column.offset,
        length: this.data.slices ? 1 : this.data.grid / 2,
        pitch,
        velocity,
      });
    // a new note can be drawn out to its length before it is let go
    const fresh = { i: -1, q: column.q, length: this.data.grid, pitch, velocity };
    this.data.notes.push(fresh);
    return this.#follow(
      e,
      (dx) =>
        (fresh.length =
          Math.max(1, Math.ceil((x + dx - this.x(fresh.q)) / (this.data.grid * this.scale))) * this.data.grid),
      () => {
        this.make({ do: "add", bar: column.bar, offset: column.offset, length: fresh.length, pitch, velocity });
      },
    );
  }

  /** Drag a note, or its end; several move together when chosen with Shift. */
  #drag(e, hit) {
    if (e.shiftKey) this.chosen.has(hit.i) ? this.chosen.delete(hit.i) : this.chosen.add(hit.i);
    else if (!this.chosen.has(hit.i)) this.chosen = new Set([hit.i]);
    this.field("velocity").value = hit.velocity;
    this.draw();
    const notes = [...this.chosen];
    const moving = this.data.notes.filter((n) => this.chosen.has(n.i));
    const were = moving.map((n) => ({ ...n }));
    const unit = this.data.grid * this.scale;
    const x = e.offsetX;
    if (x > this.x(hit.q + hit.length) - EDGE) {
      const from = hit.length;
      return this.#follow(
        e,
        (dx) => (hit.length = Math.max(0.25, Math.round((from * this.scale + dx) / unit)) * this.data.grid),
        () => {
          if (hit.length !== from) this.make({ do: "lengthen", notes: [hit.i], columns: hit.length / this.data.grid });
        },
      );
    }
    let columns = 0;
    let semitones = 0;
    return this.#follow(
      e,
      (dx, dy) => {
        columns = Math.round(dx / unit);
        semitones = -Math.round(dy / this.row);
        moving.forEach((n, k) =>
          Object.assign(n, { q: were[k].q + columns * this.data.grid, pitch: were[k].pitch + semitones }),
        );
      },
      () => (columns || semitones) && this.make({ do: "move", notes, columns, semitones }),
    );
  }

  #follow(down, move, up) {
    const { canvas } = this;
    canvas.setPointerCapture(down.pointerId);
    const moved = (e) => {
      move(e.clientX - down.clientX, e.clientY - down.clientY);
      this.draw();
    };
    canvas.addEventListener("pointermove", moved);
    canvas.addEventListener(
      "pointerup",
      () => {
        canvas.removeEventListener("pointermove", moved);
        up();
      },
      { once: true },
    );
  }

  draw() {
    drawRoll(this);
  }
}
