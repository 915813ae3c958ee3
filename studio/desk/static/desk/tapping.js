// @ts-check
// Tapping along: each press of T is a beat heard now. Enter, or stopping, makes the taps beats of the map.

import { note } from "../studio/server.js";

export class Tapping {
  constructor(desk) {
    this.desk = desk;
    this.taps = [];
  }

  tap() {
    const { player } = this.desk;
    if (!player.playing) {
      this.taps = [];
      player.play();
      return note("Tap T along with the beat. Enter lays the taps, Esc forgets them.");
    }
    this.taps.push(player.seconds);
    return this.desk.redraw();
  }

  async lay() {
    const taps = this.taps;
    if (!taps.length) return;
    this.taps = [];
    this.desk.player.pause();
    await this.desk.editing.make({ kind: "tap", taps });
  }

  forget() {
    const any = this.taps.length > 0;
    this.taps = [];
    this.desk.redraw();
    return any;
  }
}
