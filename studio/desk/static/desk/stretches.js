// @ts-check
// The chosen stretch: what it holds, and what the Stretch pane does with it. Without one, the whole map is meant.

import { send } from "../studio/server.js";

/** @typedef {Pick<import("./desk.js").Desk, "facts" | "grid" | "loop" | "panels" | "step">} Needs what this uses of the desk */

const byId = (id) => document.getElementById(id);

export class Stretches {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.within = 5; // ms
  }

  /** The start and end of the chosen stretch in seconds, as an edit sends them; empty without one. */
  get said() {
    return this.desk.loop ? { stretch: this.desk.loop } : {};
  }

  /** An edit of the stretch. */
  of(edit) {
    return { ...edit, ...this.said };
  }

  /** Change the count by a ratio; `others`: keep those of the old beats that would be left out. */
  ratio(ratio, others = false) {
    return this.of({ kind: "ratio", ratio, others });
  }

  get thinned() {
    return this.of({ kind: "thin", within: this.within / 1000 });
  }

  /** Name, tempo and length of the stretch: average, lowest and highest. */
  show() {
    const { grid, loop } = this.desk;
    const name = byId("stretch-name");
    if (!name || !grid) return;
    const from = loop ? grid.nearest(loop[0]) : 0;
    const to = loop ? grid.nearest(loop[1]) : grid.length - 1;
    name.textContent = loop ? barsOf(grid, from, to) : "Whole map";
    byId("stretch-hint").hidden = loop !== null;
    const beats = to - from;
    const facts = byId("stretch-facts");
    facts.replaceChildren();
    if (beats > 0) {
      const part = grid.bpm.slice(from, to);
      const length = grid.time[to] - grid.time[from];
      const rows = {
        Lasts: `${length.toFixed(3)} s, ${beats} beats`,
        Average: `${((60 * beats) / length).toFixed(2)} bpm`,
        Lowest: `${Math.min(...part).toFixed(1)} bpm`,
        Highest: `${Math.max(...part).toFixed(1)} bpm`,
      };
      for (const [dt, dd] of Object.entries(rows)) facts.append(element("dt", dt), element("dd", dd));
    }
    const slider = byId("within");
    slider.value = this.within;
    byId("within-shown").textContent = `${this.within} ms`;
    slider.oninput = () => {
      this.within = Number(slider.value);
      byId("within-shown").textContent = `${this.within} ms`;
      this.#tellThinned();
    };
    if (this.desk.panels.pane === "stretch") this.#tellThinned(); // the server need not reckon for a hidden pane
  }

  /** The number of points and the error that thinning would leave, live. */
  #tellThinned() {
    clearTimeout(this.timer);
    this.timer = setTimeout(async () => {
      if (!this.within) return;
      const edit = { ...this.thinned, step: this.desk.step, preview: true };
      const { data } = await send(`/sessions/${this.desk.facts.id}/edit`, edit);
      if (edit.within !== this.thinned.within) return; // the slider moved on
      const told = byId("thin-told");
      if (told) told.textContent = data.name?.split(": ").at(-1) ?? data.error ?? "";
    }, 60);
  }
}

/** Like "Bars 1–8 (8 bars)"; a stretch that ends elsewhere than on a bar line by its beats. */
function barsOf(grid, from, to) {
  const whole = grid.beat[from] === 1 && (to >= grid.length - 1 || grid.beat[to] === 1);
  const last = grid.beat[to] === 1 && to > from ? grid.bar[to] - 1 : grid.bar[to];
  const count = last - grid.bar[from] + 1;
  const name = count === 1 ? `Bar ${last}` : `Bars ${grid.bar[from]}–${last}`;
  return `${name} (${whole ? `${count} bar${count === 1 ? "" : "s"}` : `${to - from} beats`})`;
}

function element(name, text) {
  return Object.assign(document.createElement(name), { textContent: text });
}
