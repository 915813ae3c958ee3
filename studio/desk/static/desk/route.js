// @ts-check
// Where playing goes when it does not simply go on: around a loop, or along a running order of sections.
// All places are samples of the take; the server lays bar lines and sections, this only passes them.

export class Route {
  constructor() {
    /** @type {[number, number] | null} start and end */
    this.loop = null;
    /** @type {Turn[] | null} */
    this.order = null;
    this.stop();
  }

  stop() {
    this.order = null;
    /** @type {number | null} */
    this.leaveAt = null;
    /** @type {number | null} */
    this.queued = null;
    this.item = 0;
    this.round = 0;
  }

  /** @param {Turn[]} order */
  begin(order, item = 0) {
    this.stop();
    this.order = order;
    this.item = item;
  }

  get now() {
    return this.order?.[this.item];
  }

  /** Leave the section that is playing at its next bar line that can still be reached. */
  release(at) {
    if (this.order) this.leaveAt = this.now.bars.find((line) => line > at) ?? this.now.end;
  }

  /** Play this item next; with `at`, as soon as the running bar ends. */
  queue(item) {
    if (this.order?.[item]) this.queued = item;
  }

  /** Which item follows; undefined at the end of the order. @returns {number | undefined} */
  get following() {
    const next = this.queued ?? this.item + 1;
    return this.order?.[next] ? next : undefined;
  }

  /**
   * The next place at which time jumps; `to` is null where playing ends. None: null.
   * @param {number} at
   * @returns {Jump | null}
   */
  next(at) {
    const { now, loop } = this;
    if (now) {
      const leaving = this.leaveAt !== null;
      const line = this.leaveAt ?? now.end;
      if (!leaving && (now.hold || this.round + 1 < now.times))
        return { at: line, to: now.start, item: this.item, round: this.round + 1 };
      const item = this.following;
      return { at: line, to: item === undefined ? null : this.order[item].start, item, round: 0 };
    }
    return loop && at <= loop[1] ? { at: loop[1], to: loop[0] } : null;
  }

  /** The jump was made. @param {Jump} jump */
  took(jump) {
    if (!this.order) return;
    if (jump.item !== this.item) [this.leaveAt, this.queued] = [null, null];
    this.item = jump.item;
    this.round = jump.round;
  }
}
