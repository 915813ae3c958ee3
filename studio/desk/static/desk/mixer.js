// @ts-check
// The mixer runs in the audio thread: one sample clock for all tracks and the click.
// It plays the blocks that the page sends, and waits where a block is missing.

import { below } from "./hits.js";
import { Route } from "./route.js";
import { nextGrain } from "./slow.js";

const FADE = 240; // samples over which two places melt into each other right before a jump

class Mixer extends AudioWorkletProcessor {
  constructor() {
    super();
    /** @type {{channels: number, now: number[], target: number[]}[]} factors of the left and the right */
    this.tracks = [];
    this.blocks = new Map();
    this.size = 32768;
    this.total = 0;
    this.at = 0; // next sample to play
    this.playing = false;
    this.waiting = false;
    this.route = new Route();
    this.click = { samples: [], kinds: [], sounds: [], level: 1, left: 1, right: 1 };
    this.next = 0; // place of the next click
    this.ringing = []; // {sound, from}
    this.lead = null; // a running count-in
    this.ticks = 0;
    this.ears = false; // click left, tracks right
    this.mono = false; // both sides are heard in the middle
    this.pace = 1; // as chosen; a section of the running order may have a factor of its own
    this.grain = null; // slow playback in progress
    this.owed = 0; // fractions of a sample by which slow time is behind
    this.starts = []; // where attacks start, rising
    this.port.onmessage = ({ data }) => this[data.do](data);
  }

  layout({ tracks, size, total }) {
    this.tracks = tracks.map((t) => ({ channels: t.channels, now: [...t.gain], target: t.gain }));
    this.size = size;
    this.total = total;
    this.blocks.clear();
  }
  block({ number, data }) {
    this.blocks.set(number, new Float32Array(data));
  }
  drop({ numbers }) {
    for (const n of numbers) this.blocks.delete(n);
  }
  gains({ gains }) {
    gains.forEach((g, i) => this.tracks[i] && (this.tracks[i].target = g));
  }
  clicks({ samples, kinds, sounds }) {
    Object.assign(this.click, { samples, kinds });
    if (sounds) this.click.sounds = sounds;
    this.#findNext();
  }
  attacks({ samples }) {
    this.starts = samples;
  }
  clickLevel({ level }) {
    this.click.level = level;
  }
  setEars({ apart }) {
    this.ears = apart;
  }
  setMono({ mono }) {
    this.mono = mono;
  }
  setPace({ pace }) {
    this.pace = pace;
    this.grain = null;
  }
  clickPan({ pan }) {
    // the nearer side keeps its level, so that the middle sounds as it always did
    this.click.left = Math.min(1, 1 - pan);
    this.click.right = Math.min(1, 1 + pan);
  }
  setLoop({ loop }) {
    this.route.loop = loop;
  }
  /** Follow a running order from one of its items on; without one, go on as usual. */
  follow({ order, item }) {
    if (order) {
      this.seek({ at: order[item ?? 0].start });
      this.route.begin(order, item);
      this.playing = true;
    } else this.route.stop();
    this.#tell("order");
  }
  release() {
    this.route.release(this.at + FADE);
    this.#tell("order");
  }
  queue({ item }) {
    this.route.queue(item);
    this.#tell("order");
  }
  play({ at, lead }) {
    if (at !== undefined) this.seek({ at });
    // a count-in is as slow as what follows it
    const late = (samples) => Math.round(samples / this.#speed);
    this.lead = lead?.length
      ? { samples: lead.samples.map(late), kinds: lead.kinds, length: late(lead.length), at: 0, next: 0 }
      : null;
    this.playing = true;
    this.#tell("started");
  }
  pause() {
    this.playing = false;
    this.lead = null;
    this.ringing = [];
    this.#tell("paused");
  }
  seek({ at, id = this.id }) {
    this.id = id; // reports tell which jump they know of
    this.at = Math.max(0, Math.min(this.total, Math.round(at)));
    this.route.stop(); // whoever goes elsewhere leaves the running order
    this.lead = null;
    this.grain = null;
    this.owed = 0;
    this.#findNext();
    this.#tell("moved");
  }

  #findNext() {
    this.next = below(this.click.samples, this.at);
  }

  #tell(what) {
    this.port.postMessage({
      what,
      at: this.at,
      playing: this.playing,
      waiting: this.waiting,
      leading: this.lead !== null,
      time: currentTime,
      frame: currentFrame,
      id: this.id,
      order: this.route.order && {
        item: this.route.item,
        round: this.route.round,
        leaving: this.route.leaveAt !== null,
        next: this.route.following,
      },
    });
  }

  process(_, [output]) {
    const left = output[0];
    const right = output[1] ?? output[0];
    let done = 0;
    while (done < left.length && this.playing) {
      let n = left.length - done;
      if (this.lead) {
        n = Math.min(n, this.lead.length - this.lead.at);
        this.#lead(n, done);
      } else {
        const jump = this.#jumped();
        if (!this.playing) break;
        if (this.#stretches) {
          this.#slow(n, left, right, done);
          done += n;
          continue;
        }
        if (this.at >= this.total) {
          this.playing = false;
          this.#tell("ended");
          break;
        }
        const number = Math.floor(this.at / this.size);
        const block = this.blocks.get(number);
        this.waiting = !block;
        if (!block) break; // all hold still together
        const inside = this.at - number * this.size;
        n = Math.min(n, this.size - inside, this.total - this.at);
        const fading = jump && jump.to !== null && jump.to !== jump.at && this.at >= jump.at - FADE;
        if (jump) n = Math.min(n, (fading || this.at >= jump.at - FADE ? jump.at : jump.at - FADE) - this.at);
        if (fading) this.#melt(jump, n, left, right, done);
        else this.#mix(block, inside, n, left, right, done);
        this.#strike(n, done);
        this.at += n;
      }
      done += n;
    }
    if (this.mono) for (let i = 0; i < left.length; i++) left[i] = right[i] = 0.5 * (left[i] + right[i]);
    if (this.ears) for (let i = 0; i < left.length; i++) ((right[i] = 0.5 * (left[i] + right[i])), (left[i] = 0));
    this.#ring(left, right);
    if (this.playing && ++this.ticks % 8 === 0) this.#tell("at");
    return true;
  }

  /** Whether playing goes through the stretcher; along an order that has paces of its own, all the way. */
  get #stretches() {
    return this.pace !== 1 || (this.route.order?.some((i) => i.pace !== 1) ?? false);
  }

  get #speed() {
    return this.pace * (this.route.now?.pace ?? 1);
  }

  /** Makes the jump that is due here; tells the next one. */
  #jumped() {
    let jump = this.route.next(this.at);
    if (!jump || this.at < jump.at) return jump;
    if (jump.to === null) {
      this.playing = false;
      this.route.stop();
      this.#tell("ended");
      return null;
    }
    this.at = jump.to + (this.at - jump.at);
    this.route.took(jump);
    this.#findNext();
    if (this.route.order) this.#tell("order");
    jump = this.route.next(this.at);
    return jump;
  }

  /**
   * Right before a jump: what is left fades while what led up to the new place rises, so that from the line on the new
   * place sounds alone, its attack untouched, and nothing breaks off.
   */
  #melt(jump, n, left, right, done) {
    const from = jump.to - (jump.at - this.at);
    const old = this.#read(this.at, n);
    const fresh = from >= 0 ? this.#read(from, n) : null;
    for (let i = 0; i < n; i++) {
      const share = (FADE - (jump.at - this.at - i)) / FADE;
      const [out, rise] = [Math.cos((share * Math.PI) / 2), Math.sin((share * Math.PI) / 2)];
      left[done + i] += out * (old?.left[i] ?? 0) + rise * (fresh?.left[i] ?? 0);
      right[done + i] += out * (old?.right[i] ?? 0) + rise * (fresh?.right[i] ?? 0);
    }
  }

  #mix(block, inside, n, left, right, done) {
    let offset = 0;
    for (const track of this.tracks) {
      const a = offset + inside;
      const b = track.channels > 1 ? a + this.size : a;
      offset += track.channels * this.size;
      // a change of level or pan takes some 5 ms, so that it does not crackle
      let [l, r] = track.now;
      const [toL, toR] = track.target;
      if (l === 0 && r === 0 && toL === 0 && toR === 0) continue;
      const settled = Math.abs(l - toL) < 1e-5 && Math.abs(r - toR) < 1e-5;
      if (settled) [l, r] = [toL, toR];
      for (let i = 0; i < n; i++) {
        if (!settled) {
          l += (toL - l) * 0.004;
          r += (toR - r) * 0.004;
        }
        left[done + i] += l * block[a + i];
        right[done + i] += r * block[b + i];
      }
      track.now[0] = l;
      track.now[1] = r;
    }
  }

  /** Slow playback with pitch kept: grain after grain (slow.js). */
  #slow(n, left, right, done) {
    for (let i = 0; i < n; i++) {
      if (!this.grain || this.grain.at >= this.grain.hop) {
        const next = this.#nextGrain();
        if (!next) return; // a block is missing, or the end
        this.grain = next;
      }
      left[done + i] += this.grain.left[this.grain.at];
      right[done + i] += this.grain.right[this.grain.at];
      this.grain.at++;
      this.owed += this.#speed;
      const whole = Math.floor(this.owed);
      this.owed -= whole;
      if (!whole) continue;
      this.#strike(whole, done + i);
      this.at += whole;
      const here = this.at;
      this.#jumped();
      if (this.at !== here) this.grain.hop = this.grain.at; // what comes is elsewhere
      if (!this.playing) return;
    }
  }

  #nextGrain() {
    if (this.at >= this.total) {
      this.playing = false;
      this.route.stop();
      this.#tell("ended");
      return null;
    }
    const next = nextGrain(this.grain, this.at, this.owed, this.#speed, this.starts, (from, n) => this.#read(from, n));
    this.waiting = !next;
    return next;
  }

  /** The mix of all tracks over a stretch, or null where a block is missing. */
  #read(from, count) {
    const left = new Float32Array(count);
    const right = new Float32Array(count);
    let done = 0;
    while (done < count && from + done < this.total) {
      const number = Math.floor((from + done) / this.size);
      const block = this.blocks.get(number);
      if (!block) return null;
      const inside = from + done - number * this.size;
      const n = Math.min(count - done, this.size - inside, this.total - from - done);
      this.#mix(block, inside, n, left, right, done);
      done += n;
    }
    return { left, right };
  }

  #strike(n, done) {
    const { samples, kinds, sounds } = this.click;
    while (this.next < samples.length && samples[this.next] < this.at + n) {
      if (samples[this.next] >= this.at)
        this.ringing.push({ sound: sounds[kinds[this.next]], from: done + samples[this.next] - this.at });
      this.next++;
    }
  }

  #lead(n, done) {
    const lead = this.lead;
    while (lead.next < lead.samples.length && lead.samples[lead.next] < lead.at + n) {
      this.ringing.push({
        sound: this.click.sounds[lead.kinds[lead.next]],
        from: done + lead.samples[lead.next] - lead.at,
        loud: true,
      });
      lead.next++;
    }
    lead.at += n;
    if (lead.at >= lead.length) this.lead = null;
  }

  // `from`: where in this quantum the sound starts; negative when it started before
  #ring(left, right) {
    const length = left.length;
    this.ringing = this.ringing.filter((voice) => {
      // a count-in is heard even where the click is off
      const level = voice.loud ? Math.max(0.7, this.click.level) : this.click.level;
      for (let i = Math.max(0, voice.from); i < length && i - voice.from < voice.sound.length; i++) {
        left[i] += level * (this.ears ? 1 : this.click.left) * voice.sound[i - voice.from];
        if (!this.ears) right[i] += level * this.click.right * voice.sound[i - voice.from];
      }
      voice.from -= length;
      return -voice.from < voice.sound.length;
    });
  }
}

registerProcessor("mixer", Mixer);
