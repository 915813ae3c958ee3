// @ts-check
// Playing the running order: hands it to the player, shows what plays and what comes, releases what is held.

import { note, tryJson } from "../studio/server.js";

/** @typedef {Pick<import("../desk/desk.js").Desk, "facts" | "parts" | "player">} Needs what this uses of the desk */

export class Order {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.turns = [];
    document.body.addEventListener("order-changed", () => this.ask());
    desk.player.addEventListener("state", () => this.show());
    document.addEventListener("click", (e) => {
      const button = e.target.closest("[data-queue], [data-play-from]");
      if (!button) return;
      if (button.dataset.queue !== undefined) this.desk.player.queue(Number(button.dataset.queue));
      else this.play(Number(button.dataset.playFrom));
    });
    // a note from any keyboard releases, as a foot pedal would
    desk.parts.keyboard.listeners.add((data) => this.playing && data[0] >> 4 === 9 && data[2] > 0 && this.release());
  }

  get playing() {
    return this.desk.player.order !== null;
  }

  async ask() {
    const found = await tryJson(`/sessions/${this.desk.facts.id}/order`);
    if (found) this.turns = found.order;
    this.show();
  }

  async play(item = 0) {
    await this.ask(); // the map may have changed under the sections
    if (!this.turns.length) return note("There is no running order yet: Follow, Order.", true);
    this.desk.parts.keyboard.listen();
    return this.desk.player.follow(this.turns, item);
  }

  release() {
    if (this.playing) this.desk.player.release();
  }

  stop() {
    this.desk.player.follow(null);
  }

  show() {
    const { order } = this.desk.player;
    document.querySelector("#order .turns")?.classList.toggle("playing", order !== null);
    for (const li of document.querySelectorAll("[data-turn]")) {
      li.classList.toggle("now", order?.item === Number(li.dataset.turn));
      const next = li.querySelector("[data-queue]");
      next.hidden = !order;
      next.setAttribute("aria-pressed", order?.next === Number(li.dataset.turn) && order.next !== order.item);
    }
    const told = document.getElementById("order-told");
    if (!told || !order || !this.turns[order.item]) return;
    const now = this.turns[order.item];
    const next = order.next === undefined ? "then the end" : `then ${this.turns[order.next]?.name}`;
    const round = now.hold
      ? `vamp, round ${order.round + 1}`
      : now.times > 1
        ? `${order.round + 1} of ${now.times}`
        : "";
    told.textContent = `${now.name}${round ? `, ${round}` : ""}${order.leaving ? ", leaving at the next bar line" : ""}; ${next}.`;
  }
}
