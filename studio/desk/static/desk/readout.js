// @ts-check
// What the player's bar reads: place, time, tempo, and how far the guide's attack lies from the click.

import { write } from "../studio/writing.js";
import { clock } from "./drawing.js";

/** @typedef {Pick<import("./desk.js").Desk, "attacks" | "fold" | "grid" | "player" | "view">} Needs what this uses of the desk */

const byId = (id) => document.getElementById(id);
const WIDEST = 50; // ms either way on the scale of the distance
const READABLE = 50; // ms between two times on the clock while it plays: nobody reads faster, and each lays the page out anew

export class Readout {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.measured = null; // the time of the beat whose distance is shown
    this.clocked = 0; // when the clock was written, ms
    this.reduced = 0; // dB by which the sum was held back at most
    desk.player.addEventListener("limited", (e) => this.#limited(/** @type {CustomEvent} */ (e).detail));
    byId("lamp").onclick = () => {
      this.reduced = 0;
      byId("lamp").hidden = true;
    };
  }

  /** The lamp stays on until it is put out. */
  #limited(db) {
    this.reduced = Math.min(this.reduced, db);
    byId("lamp").textContent = `${this.reduced.toFixed(1)} dB`;
    byId("lamp").setAttribute("aria-label", `Held back by ${(-this.reduced).toFixed(1)} dB: put the lamp out`);
    byId("lamp").hidden = false;
  }

  show() {
    const { view, player, grid } = this.desk;
    const { seconds } = player;
    const x = view.x(seconds);
    const head = byId("playhead");
    head.hidden = x < 0 || x > view.width;
    head.style.transform = `translateX(${Math.round(x)}px)`;
    const now = performance.now();
    if (!player.playing || now - this.clocked >= READABLE) {
      write(byId("clock"), clock(seconds, 0.001));
      this.clocked = now;
    }
    if (!grid) return;
    const i = grid.sounding(seconds);
    const steady = i > 0 && Math.abs(grid.bpm[i] - grid.bpm[i - 1]) < 0.002;
    write(byId("tempo"), i >= 0 ? `${grid.bpm[i].toFixed(steady ? 3 : 1)} bpm` : "");
    if (i >= 0) this.#distance(grid.time[i]);
    const into = i >= 0 ? Math.max(0, seconds - grid.time[i]) / (grid.end(i) - grid.time[i]) : 0; // the player may stand half a sample early
    const known = i >= 0 && into < 1.5;
    write(byId("place-bar-beat"), known ? `Bar ${grid.bar[i]} beat ${grid.beat[i]}` : "–");
    byId("beat-mark").hidden = !known;
    byId("beat-mark").style.transform = `scaleX(${Math.min(1, into)})`;
  }

  /** From a beat to the guide's nearest attack, as a number and a mark on a scale. */
  #distance(beat) {
    const { attacks, fold } = this.desk;
    if (beat === this.measured || !fold.track || !attacks.of(fold.track)) return;
    this.measured = beat;
    const near = [-1, 1].map((by) => attacks.nextOn(fold.track, beat - by * 0.0005, by)).filter((a) => a !== undefined);
    const off = near.map((a) => 1000 * (a - beat)).sort((a, b) => Math.abs(a) - Math.abs(b))[0];
    const known = off !== undefined && Math.abs(off) <= WIDEST;
    byId("distance").textContent = known ? `${off >= 0.5 ? "+" : ""}${Math.round(off) || 0} ms` : "–";
    byId("needle").style.transform = `translateX(${known ? (30 * off) / WIDEST : 0}px)`;
    byId("needle").hidden = !known;
  }
}
