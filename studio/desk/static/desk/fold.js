// @ts-check
// The fold: the guide cut at every bar line, its bars stacked. Where the map is right, attacks stand in columns.

import { clock } from "../studio/clock.js";
import { note, tryJson } from "../studio/server.js";
import { INK, SANS, SERIF, fresh } from "./palette.js";

/** @typedef {Pick<import("./desk.js").Desk, "doubts" | "editing" | "facts" | "grid" | "gridStrength" | "player" | "pointer" | "reach" | "select" | "setLoop" | "step" | "tip" | "wake">} Needs what this uses of the desk */

const LEFT = 64; // room for bar numbers and doubts
const RIGHT = 60;
const HEAD = 24;

export class Fold {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.box = document.getElementById("fold");
    this.canvas = this.box.querySelector("canvas");
    this.data = null;
    this.shown = false;
    this.scroll = 0;
    this.row = 18; // pixels a bar
    this.order = "bar";
    this.current = null; // bar under the keys
    this.#listen();
  }

  get track() {
    const analysed = this.desk.facts.tracks.filter((t) => t.analysed);
    return (
      analysed.find((t) => t.id === this.chosen) ?? analysed.toSorted((a, b) => (b.weight ?? 0) - (a.weight ?? 0))[0]
    );
  }

  toggle() {
    if (clock.key && !this.shown) return note("Rows show the recording: Ctrl Enter goes there.", true);
    this.shown = !this.shown;
    this.box.hidden = !this.shown;
    document.getElementById("fold-key").setAttribute("aria-pressed", this.shown);
    document.body.classList.toggle("folded", this.shown);
    if (this.shown) this.refresh();
  }

  /** The map or the track changed. */
  async refresh() {
    if (!this.shown || !this.track || this.desk.step === null) return;
    const select = this.box.querySelector("select[name=track]");
    select.replaceChildren(
      ...this.desk.facts.tracks
        .filter((t) => t.analysed)
        .map((t) => new Option(t.name, t.id, false, t.id === this.track.id)),
    );
    const data = await tryJson(`/sessions/${this.desk.facts.id}/fold/${this.track.id}`);
    if (!data) return;
    data.shades = Uint8Array.from(atob(data.energy), (c) => c.charCodeAt(0));
    this.widest = Math.max(...data.beats, 1);
    this.#picture(data);
    this.data = data;
    this.#sort();
    this.draw();
  }

  /** The energy as one image, a pixel a column and a bar; drawn stretched. */
  #picture(data) {
    const width = this.widest * data.columns;
    this.image = new OffscreenCanvas(width, Math.max(1, data.bars.length));
    const context = this.image.getContext("2d");
    const pixels = context.createImageData(width, Math.max(1, data.bars.length));
    this.tint = INK.wave;
    const wave = this.tint.match(/[0-9a-f]{2}/g).map((hex) => parseInt(hex, 16));
    let at = 0;
    data.beats.forEach((beats, row) => {
      for (let x = 0; x < beats * data.columns; x++) {
        const p = 4 * (row * width + x);
        pixels.data.set(wave, p);
        pixels.data[p + 3] = data.shades[at++] * 0.8;
      }
    });
    context.putImageData(pixels, 0, 0);
    // attacks, row by row
    data.byRow = data.bars.map(() => []);
    data.row.forEach((row, i) => data.byRow[row].push(i));
  }

  #sort() {
    const rows = this.data.bars.map((_, i) => i);
    this.rows = this.order === "off" ? rows.sort((a, b) => this.data.off[b] - this.data.off[a]) : rows;
    this.most = Math.max(0, this.rows.length * this.row - (this.canvas.clientHeight - HEAD));
    this.scroll = Math.min(this.scroll, this.most);
  }

  /** Farthest off first, or bar by bar. */
  reorder(order = this.order === "bar" ? "off" : "bar") {
    this.order = order;
    this.box.querySelector("select[name=order]").value = order;
    this.#sort();
    this.draw();
  }

  nextTrack() {
    const analysed = this.desk.facts.tracks.filter((t) => t.analysed);
    this.chosen = analysed[(analysed.indexOf(this.track) + 1) % analysed.length]?.id;
    return this.refresh();
  }

  get beatWidth() {
    return (this.canvas.clientWidth - LEFT - RIGHT) / this.widest;
  }

  y(i) {
    return HEAD + i * this.row - this.scroll;
  }

  draw() {
    if (!this.shown || !this.data) return;
    if (this.tint !== INK.wave) this.#picture(this.data);
    const begun = performance.now();
    const { context, width, height } = fresh(this.canvas);
    const { data, beatWidth } = this;
    context.fillStyle = INK.sheet;
    context.fillRect(0, 0, width, height);
    const doubted = new Map();
    for (const d of this.desk.doubts.list) {
      if (d.whole) continue; // says nothing of single bars
      const last = data.bars.findLastIndex((_, i) => data.start[i] < d.end);
      for (let i = Math.max(0, data.bars.indexOf(d.bar)); i <= Math.max(last, 0) && data.start[i] < d.end; i++)
        if (data.end[i] > d.start) doubted.set(i, Math.max(d.severity, doubted.get(i) ?? 0));
    }
    const first = Math.max(0, Math.floor(this.scroll / this.row));
    const last = Math.min(this.rows.length, Math.ceil((this.scroll + height - HEAD) / this.row));
    context.imageSmoothingEnabled = false;
    for (let i = first; i < last; i++) {
      const row = this.rows[i];
      const y = this.y(i);
      const wide = data.beats[row] * beatWidth;
      if (data.bars[row] === this.current) {
        context.fillStyle = INK.loop;
        context.fillRect(0, y, width, this.row);
      }
      context.drawImage(this.image, 0, row, data.beats[row] * data.columns, 1, LEFT, y + 1, wide, this.row - 2);
      context.fillStyle = INK.rule;
      context.fillRect(LEFT + wide, y, 1, this.row);
    }
    // the columns: bar lines and beats
    for (let b = 0; b <= this.widest; b++) {
      context.fillStyle = b === 0 ? INK.bar : INK.ink;
      context.globalAlpha = b === 0 ? 0.9 : 0.3 * this.desk.gridStrength;
      context.fillRect(Math.round(LEFT + b * beatWidth), HEAD, 1, height);
      context.globalAlpha = 1;
    }
    context.textBaseline = "middle";
    for (let i = first; i < last; i++) {
      const row = this.rows[i];
      const y = this.y(i);
      context.fillStyle = INK.ink;
      for (const a of data.byRow[row]) {
        const tall = Math.max(3, (this.row - 3) * Math.min(1, 0.35 + 0.65 * data.strength[a]));
        context.globalAlpha = 0.3 + 0.7 * data.strength[a];
        context.fillRect(LEFT + data.place[a] * beatWidth - 1, y + (this.row - tall) / 2, 2, tall);
      }
      context.globalAlpha = 1;
      const labels = this.row >= 13 || data.bars[row] % 4 === 1;
      if (labels) {
        context.font = `560 ${Math.min(15, Math.max(13, this.row - 3))}px ${SERIF}`;
        context.textAlign = "right";
        context.fillText(String(data.bars[row]), LEFT - 8, y + this.row / 2 + 1);
      }
      if (doubted.has(row)) {
        context.fillStyle = INK.bar;
        context.font = `13px ${SANS}`;
        context.textAlign = "left";
        context.fillText("◆".repeat(doubted.get(row)), 3, y + this.row / 2);
      }
      context.textAlign = "left";
      if (this.row >= 13) {
        context.fillStyle = INK.faded;
        context.font = `400 13px ${SANS}`;
        context.fillText(`${data.off[row].toFixed(0)} ms`, width - RIGHT + 10, y + this.row / 2);
      }
      const { grid } = this.desk;
      for (let b = 0; grid && b < data.beats[row]; b++) {
        if (!grid.pinned.has(data.first[row] + b)) continue;
        const x = LEFT + b * beatWidth;
        context.fillStyle = INK.pin;
        context.fillRect(x - 3, y + this.row / 2 - 3, 7, 7);
      }
    }
    context.fillStyle = INK.paper;
    context.fillRect(0, 0, width, HEAD);
    context.fillStyle = INK.faded;
    context.font = `500 13px ${SANS}`;
    for (let b = 0; b < this.widest; b++) context.fillText(String(b + 1), LEFT + b * beatWidth + 4, HEAD / 2);
    context.fillText("off", width - RIGHT + 10, HEAD / 2);
    if (this.dragged) this.#drawDragged(context);
    this.#drawPlayhead(context);
    this.took = performance.now() - begun;
  }

  #drawPlayhead(context) {
    const t = this.desk.player.seconds;
    const row = this.data.bars.findIndex((_, i) => this.data.start[i] <= t && t < this.data.end[i]);
    if (row < 0) return;
    const { grid } = this.desk;
    const i = grid?.sounding(t) ?? -1;
    if (i < 0) return;
    const place = grid.index(i) - this.data.first[row] + (t - grid.time[i]) / (grid.end(i) - grid.time[i]);
    const y = this.y(this.rows.indexOf(row));
    context.fillStyle = INK.pin;
    context.fillRect(LEFT + place * this.beatWidth - 1, y, 2, this.row);
  }

  #drawDragged(context) {
    const { attack, x, beat, row } = this.dragged;
    const y = this.y(this.rows.indexOf(row));
    context.fillStyle = INK.pin;
    context.fillRect(x - 1, y, 3, this.row);
    context.strokeStyle = INK.pin;
    context.lineWidth = 2;
    context.strokeRect(LEFT + beat * this.beatWidth - 5, y, 10, this.row);
    context.globalAlpha = 0.4;
    context.fillRect(LEFT + this.data.place[attack] * this.beatWidth - 1, y, 2, this.row);
    context.globalAlpha = 1;
  }

  #rowAt(y) {
    return this.rows?.[Math.floor((y - HEAD + this.scroll) / this.row)];
  }

  /** Hear a bar in a loop. */
  hear(row) {
    const { data, desk } = this;
    this.current = data.bars[row];
    desk.setLoop([data.start[row], data.end[row]], data.bars[row]);
    desk.select(data.first[row]);
    desk.player.play(data.start[row]);
    this.draw();
  }

  walk(by) {
    if (!this.data) return;
    const at = this.rows.findIndex((r) => this.data.bars[r] === this.current);
    const i = Math.min(this.rows.length - 1, Math.max(0, at < 0 ? 0 : at + by));
    this.#reveal(i);
    const row = this.rows[i];
    this.current = this.data.bars[row];
    this.desk.select(this.data.first[row]);
    this.desk.setLoop([this.data.start[row], this.data.end[row]], this.data.bars[row]);
    this.desk.player.seek(this.data.start[row]);
    this.draw();
  }

  #reveal(i) {
    const room = this.canvas.clientHeight - HEAD - this.row;
    if (i * this.row < this.scroll) this.scroll = i * this.row;
    if (i * this.row > this.scroll + room) this.scroll = i * this.row - room;
  }

  zoom(by) {
    this.row = Math.min(60, Math.max(5, Math.round(this.row * by)));
    this.#sort();
    this.draw();
  }

  #listen() {
    const { canvas } = this;
    new ResizeObserver(() => this.data && (this.#sort(), this.draw())).observe(canvas);
    this.box.addEventListener("change", (e) => {
      if (e.target.name === "track") this.chosen = Number(e.target.value);
      if (e.target.name === "order") this.order = e.target.value;
      this.scroll = 0;
      this.refresh();
    });
    canvas.addEventListener(
      "wheel",
      (e) => {
        e.preventDefault();
        if (e.ctrlKey) return this.zoom(e.deltaY < 0 ? 1.15 : 0.87);
        this.scroll = Math.min(this.most, Math.max(0, this.scroll + e.deltaY));
        return this.draw();
      },
      { passive: false },
    );
    canvas.addEventListener("pointerdown", (e) => this.#down(e));
  }

  #nearestAttack(row, x) {
    let best = null;
    let distance = 7;
    for (const a of this.data.byRow[row] ?? []) {
      const d = Math.abs(LEFT + this.data.place[a] * this.beatWidth - x) - this.data.strength[a];
      if (d < distance) [best, distance] = [a, d];
    }
    return best;
  }

  /** A press on an attack may drag it into its column; anywhere else it plays the bar. */
  #down(down) {
    this.desk.wake();
    const row = this.#rowAt(down.offsetY);
    if (row === undefined) return;
    const attack = this.#nearestAttack(row, down.offsetX);
    const move = (e) => {
      if (attack === null || (!this.dragged && Math.abs(e.offsetX - down.offsetX) < 4)) return;
      const beat = Math.min(this.data.beats[row], Math.max(0, Math.round((e.offsetX - LEFT) / this.beatWidth)));
      this.dragged = { attack, row, x: e.offsetX, beat };
      this.desk.pointer = [e.clientX, e.clientY];
      this.desk.tip(`this attack is beat ${beat + 1}`);
      this.draw();
    };
    const up = () => {
      this.canvas.removeEventListener("pointermove", move);
      const { dragged } = this;
      this.dragged = null;
      this.desk.tip("");
      this.desk.pointer = null;
      if (!dragged) return this.hear(row);
      return this.desk.editing.make({
        kind: "move",
        beat: this.data.first[row] + dragged.beat,
        to: this.data.seconds[attack],
        free: true,
        reach: this.desk.reach,
      });
    };
    this.canvas.setPointerCapture(down.pointerId);
    this.canvas.addEventListener("pointermove", move);
    this.canvas.addEventListener("pointerup", up, { once: true });
  }
}
