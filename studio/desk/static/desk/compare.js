// @ts-check
// Another version beside the current one: the difference along the take, and its click to switch to while playing.

import { INK, SANS } from "./palette.js";
import { note, tryJson } from "../studio/server.js";

/** @typedef {Pick<import("./desk.js").Desk, "facts" | "panels" | "player" | "redraw" | "view">} Needs what this uses of the desk */

export class Compare {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.other = null;
    this.clicksOther = false; // whether the click is the other version's
  }

  async with(step) {
    if (this.other?.step === step) return this.leave();
    const data = await tryJson(`/sessions/${this.desk.facts.id}/compare/${step}`);
    if (!data) return undefined;
    this.other = { ...data, step };
    this.show();
    return this.desk.redraw();
  }

  /** With the last named version, else with the step before; pressed again it leaves. */
  withLast() {
    if (this.other) return this.leave();
    if (this.desk.panels.stage !== "check") return this.desk.panels.reach("steps", "[data-compare]"); // there to choose from
    const steps = [
      ...document.querySelectorAll(
        ".versions li:not([aria-current]) [data-compare], .steps li[aria-current] ~ li [data-compare]",
      ),
    ];
    if (!steps.length) return note("There is no other version yet, nor a step before this one.");
    this.desk.panels.turn("steps");
    return this.with(Number(steps[0].dataset.compare));
  }

  leave() {
    if (!this.other) return;
    if (this.clicksOther) this.switchClick();
    this.other = null;
    this.show();
    this.desk.redraw();
  }

  /** Hear the click of the one or the other, also while playing. */
  switchClick() {
    if (!this.other) return;
    this.clicksOther = !this.clicksOther;
    this.desk.player.refreshClick(this.clicksOther ? this.other.step : undefined);
    this.show();
  }

  show() {
    const box = document.getElementById("compared");
    if (!box) return;
    box.hidden = !this.other;
    if (!this.other) return;
    const { ms, name, beats } = this.other;
    const most = Math.max(...ms.map(Math.abs));
    const same = ms.filter((d) => Math.abs(d) < 0.05).length;
    box.textContent = `Against “${name}”: ${same} of ${ms.length} beats alike, ${most.toFixed(0)} ms at most, ${beats[1]} beats there. The click is ${this.clicksOther ? "the other's" : "this one's"} (A switches).`;
  }

  /** The difference in ms as bars above and below the contour's middle. */
  draw(context, width, height) {
    if (!this.other) return;
    const { view } = this.desk;
    const { time, ms } = this.other;
    const most = Math.max(10, ...ms.map(Math.abs));
    const middle = height / 2;
    context.fillStyle = INK.sheet;
    context.globalAlpha = 0.82;
    context.fillRect(0, 0, width, height);
    context.globalAlpha = 1;
    context.fillStyle = INK.faded;
    context.fillRect(0, middle, width, 1);
    context.fillStyle = INK.bar;
    time.forEach((t, i) => {
      const x = view.x(t);
      if (x < -2 || x > width + 2) return;
      const tall = (ms[i] / most) * (middle - 8);
      context.fillRect(Math.round(x) - 1, Math.min(middle, middle - tall), 3, Math.max(1, Math.abs(tall)));
    });
    context.font = `500 13px ${SANS}`;
    context.textBaseline = "top";
    context.fillText(`${this.other.name}: there later ↑, earlier ↓, up to ${most.toFixed(0)} ms`, 8, 4);
  }
}
