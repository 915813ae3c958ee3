// @ts-check
// Tapping along: each press of T is a beat heard now, or of " a bar line. Enter makes them beats of the map.

import { note } from "../studio/server.js";

/** @typedef {Pick<import("./desk.js").Desk, "editing" | "grid" | "player" | "redraw">} Needs what this uses of the desk */

export class Tapping {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.taps = [];
    this.bars = false; // whether bar lines are tapped
  }

  tap(bars = false) {
    const { player } = this.desk;
    if (!player.playing || (this.taps.length && bars !== this.bars)) {
      this.taps = [];
      this.bars = bars;
      player.play();
      return note(
        `Tap ${bars ? '" along with the bar lines' : "T along with the beat"}. Enter uses the taps, Esc forgets them.`,
      );
    }
    this.bars = bars;
    this.taps.push(player.seconds);
    return this.desk.redraw();
  }

  async use() {
    const taps = this.taps;
    if (!taps.length) return;
    this.taps = [];
    this.desk.player.pause();
    const { grid } = this.desk;
    const meter = this.bars
      ? (grid?.meters.findLast((m) => m.time <= taps[0])?.text ?? grid?.meters[0]?.text ?? "4/4")
      : null;
    await this.desk.editing.make({ kind: "tap", taps, meter });
  }

  forget() {
    const any = this.taps.length > 0;
    this.taps = [];
    this.desk.redraw();
    return any;
  }
}
