// @ts-check
// The desk: its state, and what happens when it changes. Drawing, pointing, editing and playing live in their own modules.

import { filesOf, gather, isGathering, onFiles } from "../library/gather.js";
import { addressOf } from "../studio/address.js";
import { loadAgain } from "../studio/leaving.js";
import { getJson, note } from "../studio/server.js";
import { AttackMarks } from "./attacks.js";
import { COMMANDS, commands } from "./commands.js";
import { Compare } from "./compare.js";
import { Doubts } from "./doubts.js";
import { drawContour, drawLanes, drawRuler } from "./drawing.js";
import { Editing } from "./editing.js";
import { Fold } from "./fold.js";
import { Grid } from "./grid.js";
import { drawHeads } from "./heads.js";
import { isSilenced } from "./levels.js";
import { loopBars } from "./looping.js";
import { Marks } from "./marks.js";
import { Overview } from "./overview.js";
import { nameSession } from "./naming.js";
import { News } from "./news.js";
import { Panels } from "./panels.js";
import { keepPlace } from "./place.js";
import { Parts } from "../parts/parts.js";
import { Chords } from "../harmony/chords.js";
import { Recording } from "../recording/recording.js";
import { Reshaping } from "../reshaping/reshaping.js";
import { Order } from "../running_order/running_order.js";
import { Player } from "./player.js";
import { pointing } from "./pointing.js";
import { Readout } from "./readout.js";
import { Stretches } from "./stretches.js";
import { Tapping } from "./tapping.js";
import { TempoPicture } from "./tempo.js";
import { Tiles } from "./tiles.js";
import { Tour, isAskedFor } from "./tour.js";
import { Viewport } from "./viewport.js";
import { Waves } from "./waves.js";
import { widening } from "./widening.js";

const byId = (id) => document.getElementById(id);
const LOWEST = 50; // name and fader
const HIGHEST = 190;

export class Desk {
  constructor(facts) {
    this.facts = facts;
    this.commands = COMMANDS;
    this.canvas = { overview: byId("overview"), contour: byId("contour"), ruler: byId("ruler"), lanes: byId("lanes") };
    this.scroller = byId("scroller");
    this.view = new Viewport(facts.rate, facts.seconds);
    this.tiles = new Tiles(facts, (track) => (this.waves.forget(track), this.redraw()));
    this.waves = new Waves(this.tiles, facts);
    this.player = new Player(facts);
    this.editing = new Editing(this);
    this.doubts = new Doubts(this);
    this.attacks = new AttackMarks(this);
    this.marks = new Marks(this);
    this.stretches = new Stretches(this);
    this.tapping = new Tapping(this);
    /** @type {() => void} */
    this.openTable = () => location.assign(addressOf(`/sessions/${this.facts.id}/bars`));
    this.searchCommands = () => {}; // set with the commands
    this.compare = new Compare(this);
    this.fold = new Fold(this);
    this.parts = new Parts(this);
    this.chords = new Chords(this);
    this.order = new Order(this);
    this.reshaping = new Reshaping(this);
    this.recording = new Recording(this);
    this.tour = new Tour(this);
    this.tempo = new TempoPicture(this);
    /** @type {Panels} */
    this.panels = new Panels(this);
    this.readout = new Readout(this);
    this.overview = new Overview(this);
    /** @type {News} */
    this.news = new News(this);
    nameSession(this.facts);
    /** @type {[number, number] | null} where the pointer is on the page */
    this.pointer = null;
    /** @type {{y(bpm: number): number, bpm(y: number): number} | null} */
    this.contourScale = null;
    /** @type {HTMLElement | null} */
    this.tipBox = null;
    this.reach = "beat"; // how far an edit of a beat reaches
    this.grid = null; // what is drawn: the map, or an edit in preview
    this.before = null; // the map under a preview
    this.mapped = Infinity; // when the map was last set
    this.step = null;
    this.here = -1;
    this.unfinished = false; // whether drawing has to go on
    /** @type {import("../recording/take.js").GrowingTake | null} a first take that is being played */
    this.growing = null;
    this.selected = null; // felt-beat index
    this.hover = null;
    this.hoverEnd = null; // the tab of an end of the music: "starts" or "ends"
    this.loop = null;
    this.follows = true;
    this.clickLevel = 0.7;
    this.gridStrength = Number(localStorage.getItem("grid") ?? 1);
    this.laneHeight = 80;
    this.drawn = 0;
    this.frames = [];
  }

  // ---- what there is

  setFacts(facts) {
    const laid = (f) => JSON.stringify([f.tracks.map((t) => [t.id, t.analysed]), f.parts.map((p) => p.id)]);
    const same = laid(facts) === laid(this.facts);
    const fresh = same && facts.rate === this.facts.rate;
    if (facts.rate !== this.facts.rate && !this.facts.tracks.length) return isGathering() ? undefined : loadAgain(); // the sound card's clock is set anew
    Object.assign(this.facts, facts);
    this.view.rate = facts.rate;
    this.view.seconds = facts.seconds;
    this.layout();
    if (!fresh) this.player.relayout(this.facts);
  }

  setMap({ step, grid, here }) {
    const chosen = this.selected === null ? undefined : this.#chosenTime();
    const had = this.before ?? this.grid;
    this.before = null;
    this.mapped = performance.now();
    this.step = step;
    this.here = here;
    this.grid = grid ? Grid.of(grid, had) : null;
    if (this.selected !== null) this.selected = this.grid?.still(this.selected, chosen) ?? null;
    this.hover = null;
    if (this.loop && this.loopBar !== undefined) loopBars(this, this.loopBar);
    clearTimeout(this.clickTimer);
    this.clickTimer = setTimeout(() => this.#mapSettled(), 180); // a burst of edits asks once
    this.doubts.later();
    this.compare.leave(); // what was compared was another map
    this.redraw();
    this.panels.refresh(180);
    this.panels.tick();
  }

  #mapSettled() {
    this.player.refreshClick();
    this.parts.follow();
    this.chords.ask();
    this.reshaping.ask();
    if (this.step !== null) this.marks.ask(); // and with them the tempo of sections
    this.fold.refresh();
  }

  #chosenTime() {
    const grid = this.before ?? this.grid;
    return grid?.time[grid.place(this.selected)];
  }

  showPreview(grid, name) {
    this.before ??= this.grid;
    this.grid = grid;
    this.tip(name);
    this.redraw();
  }

  endPreview() {
    if (this.before) this.grid = this.before;
    this.before = null;
    this.redraw();
  }

  tip(text) {
    this.tipBox ??= document.body.appendChild(Object.assign(document.createElement("div"), { className: "drag-tip" }));
    this.tipBox.hidden = !text || !this.pointer;
    if (this.pointer) {
      this.tipBox.textContent = text;
      this.tipBox.style.left = `${this.pointer[0] + 14}px`;
      this.tipBox.style.top = `${this.pointer[1] - 34}px`;
    }
  }

  /** What has a lane: the recording's tracks, then the parts. */
  get lanes() {
    return [...this.facts.tracks, ...this.facts.parts];
  }

  isSilenced(lane) {
    return isSilenced(lane, this.lanes);
  }

  // ---- choosing and going

  select(beat) {
    this.chosenAt = this.player.at;
    if (this.selected === beat) return;
    this.selected = beat;
    if (beat !== null && this.panels.stage !== "check") this.panels.open("check");
    else if (this.panels.stage === "check") this.panels.refresh();
    this.redraw();
  }

  /** The beat that a key means: the chosen one, or where the playhead has moved since, the one nearest to it. */
  get meant() {
    if (!this.grid) return null;
    if (
      this.selected !== null &&
      (this.chosenAt === this.player.at || Math.abs(this.#chosenTime() - this.player.seconds) < 0.02)
    )
      return this.selected;
    if (this.selected !== null && !this.player.playing && this.chosenAt === undefined) return this.selected;
    return this.grid.index(this.grid.nearest(this.player.seconds));
  }

  /** The tempo at a height of the contour, as it was drawn when the drag began. */
  bpmAt(y) {
    return Math.max(10, this.contourScale.bpm(y));
  }

  /** The bar of the chosen beat, or of the playhead. */
  get bar() {
    const place =
      this.selected !== null ? this.grid.place(this.selected) : Math.max(0, this.grid.sounding(this.player.seconds));
    return this.grid.bar[place];
  }

  setReach(reach) {
    this.reach = reach;
    for (const b of document.querySelectorAll("[data-reach]"))
      b.setAttribute("aria-checked", b.dataset.reach === reach);
  }

  cycleReach() {
    const all = ["beat", "bend", "pins", "onward", "stretch", "whole"];
    this.setReach(all[(all.indexOf(this.reach) + 1) % all.length]);
    const words = {
      beat: "this beat only",
      bend: "tempo bends to the next pins",
      pins: "detected again to the next pins",
      onward: "all that follow, tempos kept",
      stretch: "all that follow, stretched",
      whole: "the whole map",
    };
    note(`An edit moves: ${words[this.reach]}.`);
  }

  leave() {
    if (!this.tapping.forget()) this.select(null);
    this.compare.leave();
  }

  go(seconds) {
    this.player.seek(seconds);
    this.view.show(seconds);
  }

  /** Show a doubtful place closely, with the playhead a little before it. */
  visit(beat, seconds) {
    this.view.set(seconds - 3, Math.min(this.view.spp, (10 * this.facts.rate) / this.view.width));
    this.player.seek(seconds);
    const place = this.grid?.place(beat);
    if (place >= 0 && place < this.grid.length) this.select(beat);
  }

  // ---- switches

  setLoop(loop, bar) {
    this.loop = loop;
    this.loopBar = bar;
    this.player.setLoop(loop);
    this.stretches.show();
    byId("loop").setAttribute("aria-pressed", loop !== null);
    this.redraw();
  }

  zoomHere(steps) {
    const x = this.view.x(this.player.seconds);
    this.view.zoom(steps, x >= 0 && x <= this.view.width ? x : undefined);
  }

  wake() {
    this.player.context.resume(); // browsers let sound begin only after the first touch
  }

  // ---- drawing

  setGridStrength(strength) {
    this.gridStrength = strength;
    localStorage.setItem("grid", strength);
    this.redraw();
    this.fold.draw();
  }

  layout() {
    const room = this.scroller.clientHeight;
    const count = Math.max(1, this.lanes.length);
    const fitting = Math.max(LOWEST, Math.min(HIGHEST, Math.floor(room / count)));
    this.laneHeight = Number(localStorage.getItem("lane")) || fitting;
    this.canvas.lanes.style.height = `${room}px`;
    drawHeads(this);
    this.view.resize(this.canvas.lanes.clientWidth);
    this.redraw();
  }

  /** Lanes higher or lower than those that fill the room; `null`: as they fit. */
  setLaneHeight(factor) {
    const to = factor && Math.round(Math.max(LOWEST, Math.min(2 * HIGHEST, this.laneHeight * factor)));
    if (to) localStorage.setItem("lane", String(to));
    else localStorage.removeItem("lane");
    this.layout();
  }

  beginTour() {
    /** @type {HTMLDialogElement} */ (byId("help")).close();
    this.tour.begin();
  }

  redraw() {
    if (this.asked) return;
    this.asked = true;
    requestAnimationFrame(() => {
      this.asked = false;
      this.unfinished = false;
      const begun = performance.now();
      drawLanes(this);
      drawRuler(this);
      drawContour(this);
      this.overview.draw();
      this.chords.draw();
      this.fold.draw();
      this.parts.roll.draw();
      this.readout.show();
      this.drawn += 1;
      this.frames.push(performance.now() - begun);
      if (this.frames.length > 600) this.frames.shift();
    });
  }

  /** Something is not drawn yet: go on in the next frame. */
  later() {
    this.unfinished = true;
    setTimeout(() => this.redraw(), 0);
  }

  #run = () => {
    if (this.player.playing) {
      if (this.follows && !this.before) {
        const x = this.view.x(this.player.seconds);
        if (x > this.view.width * 0.88 || x < 0) this.view.set(this.player.seconds - this.view.span * 0.1);
      }
      this.readout.show();
      if (this.fold.shown) this.fold.draw();
      this.parts.roll.draw();
      requestAnimationFrame(this.#run);
    }
  };

  async begin() {
    this.view.addEventListener("change", () => this.redraw());
    widening();
    document.addEventListener("look", () => (this.redraw(), this.fold.draw()));
    new ResizeObserver(() => this.layout()).observe(this.scroller);
    this.scroller.addEventListener("scroll", () => this.redraw());
    this.player.addEventListener("state", () => {
      byId("play").classList.toggle("on", this.player.playing);
      byId("play").setAttribute("aria-label", this.player.playing ? "Stop" : "Play");
      this.readout.show();
      if (this.player.playing) requestAnimationFrame(this.#run);
    });
    byId("click-level").oninput = (e) => {
      this.clickLevel = Number(e.target.value);
      this.player.setClick(this.clickLevel);
      byId("click").setAttribute("aria-pressed", this.clickLevel > 0);
    };
    commands(this);
    pointing(this);
    onFiles(byId("choose"), async (groups) => {
      await gather(this.facts.id, filesOf(groups), byId("sending"));
      this.news.look();
    });
    // the sound card takes a moment to start: it does so at the first touch, not at the first Space
    for (const kind of ["pointerdown", "keydown"])
      addEventListener(kind, () => this.wake(), { once: true, capture: true });
    this.wake();
    this.layout();
    await document.fonts.ready;
    this.setMap(await getJson(`/sessions/${this.facts.id}/map`));
    const toured = isAskedFor();
    const arrive = keepPlace(this, this.step ? "check" : this.facts.tracks.length ? "find" : "gather");
    await this.player.ready;
    arrive();
    document.body.dataset.ready = "yes";
    if (toured) this.tour.begin();
  }
}

globalThis.desk = new Desk(JSON.parse(byId("facts").textContent));
globalThis.desk.begin();
