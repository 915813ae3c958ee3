// @ts-check
// Marks on the recording: sections to jump to and loop, locks, holds, music without beats.

import { INK, SANS } from "./palette.js";
import { clock } from "../studio/clock.js";
import { Latest, note, send } from "../studio/server.js";

/** @typedef {Pick<import("./desk.js").Desk, "doubts" | "editing" | "facts" | "go" | "grid" | "loop" | "player" | "redraw" | "setLoop" | "tempo" | "view">} Needs what this uses of the desk */

const sectionColours = () => [INK.warning, INK.pin, INK.wave, INK.bar, INK.violet];

/** Marks that are drawn over the lanes, and what stands in them. */
const OVER = { lock: "locked", hold: "hold", free: "no beats" };

export class Marks {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.latest = new Latest();
    this.list = [];
  }

  get sections() {
    return this.list.filter((m) => m.kind === "section");
  }

  async ask() {
    const found = await this.latest.read(`/sessions/${this.desk.facts.id}/marks`);
    if (found) this.#take(found);
  }

  #take({ marks }) {
    this.latest.overtake();
    this.list = marks;
    this.show();
    this.desk.tempo.ask();
    this.desk.redraw();
  }

  async set(kind, name = "") {
    const { grid, loop } = this.desk;
    const all = kind === "lock" && grid ? [grid.time[0], grid.time[grid.length - 1]] : null; // the whole map can be locked
    const stretch = loop ?? all;
    if (clock.key) return note("Marks are set on the recording: Ctrl Enter goes there.", true);
    if (!stretch) return note("Choose a stretch first: drag along the time above the bars.", true);
    const { ok, data } = await send(`/sessions/${this.desk.facts.id}/mark`, { kind, name, stretch });
    if (!ok) return note(data.error ?? "The mark could not be set.", true);
    this.#take(data);
    this.desk.doubts.later();
    if (kind === "free") this.desk.player.refreshClick();
    return undefined;
  }

  async #remove(id) {
    const { ok, data } = await send(`/sessions/${this.desk.facts.id}/mark`, { remove: id });
    if (!ok) return note(data.error ?? "The mark could not be taken back.", true);
    this.#take(data);
    this.desk.doubts.later();
    this.desk.player.refreshClick();
  }

  async #rename(id, name) {
    const { ok, data } = await send(`/sessions/${this.desk.facts.id}/mark`, { rename: id, name });
    if (ok) this.#take(data);
    else note(data.error ?? "The name could not be changed.", true);
  }

  async #recolour(mark) {
    const { ok, data } = await send(`/sessions/${this.desk.facts.id}/mark`, {
      recolour: mark.id,
      colour: mark.colour + 1,
    });
    if (ok) this.#take(data);
    else note(data.error, true);
  }

  go(by) {
    const now = this.desk.player.seconds;
    const starts = this.sections.map((m) => m.start);
    const there = by > 0 ? starts.find((s) => s > now + 0.01) : starts.filter((s) => s < now - 0.5).at(-1);
    if (there !== undefined) this.desk.go(there);
  }

  /** The section around the playhead in a loop. */
  loop() {
    const now = this.desk.player.seconds + 1e-6;
    const here = this.sections.find((m) => m.start <= now && now < m.end);
    if (here) this.desk.setLoop([here.start, here.end]);
    else note("No section here: name one under Check, Marks.", true);
  }

  show() {
    const box = document.getElementById("marks");
    if (!box) return;
    // a name that is being written is not taken away: the list is drawn once it is left
    const written = /** @type {HTMLInputElement | null} */ (box.querySelector("input:focus"));
    if (written && written.value !== written.defaultValue) {
      written.addEventListener("blur", () => this.show(), { once: true });
      return;
    }
    box.replaceChildren(
      ...this.list.map((m) => {
        const li = document.createElement("li");
        const go = Object.assign(document.createElement("button"), {
          textContent: m.statement || `${m.name}, ${m.words}`,
          title: m.end > m.start ? "Loop it" : "Go there",
        });
        go.onclick = () => (m.end > m.start && this.desk.setLoop([m.start, m.end]), this.desk.go(m.start));
        const off = Object.assign(document.createElement("button"), {
          className: "key quiet",
          textContent: "×",
          title: "Take it back",
          ariaLabel: `Take back: ${m.statement || m.name}`,
        });
        off.onclick = () =>
          m.kind === "pins" ? this.desk.editing.make({ kind: "unpin", stretch: [m.start, m.end] }) : this.#remove(m.id);
        if (m.kind !== "section") li.append(go, off);
        else {
          const name = Object.assign(document.createElement("input"), {
            className: "field",
            defaultValue: m.name,
            maxLength: 100,
          });
          name.setAttribute("aria-label", `Name of the section, ${m.words}`);
          name.onchange = () => this.#rename(m.id, name.value);
          go.textContent = m.words;
          const colour = Object.assign(document.createElement("button"), {
            className: "swatch",
            title: "Another colour",
            ariaLabel: `Colour of ${m.name}`,
          });
          colour.style.background = this.colour(m);
          colour.onclick = () => this.#recolour(m);
          li.append(colour, name, go, off);
        }
        return li;
      }),
    );
  }

  colour(mark) {
    const colours = sectionColours();
    return colours[mark.colour % colours.length];
  }

  /** Locks, holds and free stretches over the lanes; each with its own hatching, so that colour is not the only sign. */
  drawOver(context, height) {
    const { view } = this.desk;
    for (const m of this.list) {
      if (!OVER[m.kind] || m.end < view.start || m.start > view.end) continue;
      const [a, b] = [view.x(m.start), view.x(m.end)];
      context.save();
      context.beginPath();
      context.rect(a, 0, b - a, height);
      context.clip();
      context.strokeStyle = m.kind === "lock" ? INK.pin : INK.faded;
      context.globalAlpha = 0.35;
      context.lineWidth = 1;
      context.beginPath();
      const step = m.kind === "free" ? 9 : 14;
      const lean = m.kind === "hold" ? 0 : height;
      for (let x = Math.max(a, -height) - height; x < Math.min(b, view.width) + height; x += step) {
        context.moveTo(x, height);
        context.lineTo(x + lean, 0);
      }
      context.stroke();
      context.restore();
      context.font = `500 13px ${SANS}`;
      context.fillStyle = INK.ink;
      context.fillText(OVER[m.kind], Math.max(4, a + 4), 14);
    }
  }

  /** Sections as named bands. */
  drawBands(context, x, top, height, width) {
    context.font = `600 13px ${SANS}`;
    for (const m of this.sections) {
      const [a, b] = [x(m.start), x(m.end)];
      if (b < 0 || a > width) continue;
      context.fillStyle = this.colour(m);
      context.fillRect(a, top, Math.max(2, b - a - 1), height);
      if (height < 10) continue;
      context.save();
      context.beginPath();
      context.rect(a, top, b - a - 2, height);
      context.clip();
      context.fillStyle = INK.sheet;
      context.fillText(m.name, Math.max(a, 0) + 5, top + height - 3);
      context.restore();
    }
  }
}
