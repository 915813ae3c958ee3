// @ts-check
// Every command with its keys, its words for the help, and what it does.

import { commandSearch } from "./command_search.js";
import { takesSpace } from "./roving.js";
import {
  toggleClick,
  setClickStyle,
  toggleEars,
  toggleMono,
  setPace,
  stepPace,
  setLead,
  toggleFollow,
} from "./switches.js";
import { forms } from "./forms.js";
import { keyList, shownKey } from "./key_list.js";
import { loopTwo, stretchBy, toggleLoop } from "./looping.js";
import { note } from "../studio/server.js";
import { keepKeys, keyOf, readKeys } from "./own_keys.js";
import { stepAttack, stepBar, stepBeat } from "./stepping.js";

const CHOOSE_BEAT = "There is no map yet: Find makes one.";
const CHOOSE_STRETCH = "Choose a stretch first: drag along the time above the bars.";

/** A command that makes an edit. Its button shows what it would do while the pointer rests on it. */
const edits = (keys, words, edit, without) => [keys, words, (d) => make(d, edit(d), without), edit];
/** An edit of the chosen beat, or of the one at the playhead. */
const chosen = (keys, words, edit) =>
  edits(keys, words, (d) => (d.meant === null ? null : edit(d.meant, d)), CHOOSE_BEAT);
const nudges = (keys, words, by) => chosen(keys, words, (beat, d) => ({ kind: "nudge", beat, by, reach: d.reach }));

/** A doubt that is looked at is right as it is; else the chosen beat is pinned or free again. */
function pinning(desk) {
  if (desk.panels.pane === "doubts" && desk.doubts.now) return desk.doubts.approval;
  const beat = desk.meant;
  return beat === null ? null : { kind: "pin", beat, on: !desk.grid.isPinned(desk.grid.place(beat)) };
}

function make(desk, edit, without) {
  if (edit) return desk.editing.make(edit);
  return without && note(without, true);
}

/** name: [keys, words, action(desk), and for edits what they are], in groups for the help */
export const GROUPS = {
  Play: {
    play: [[" "], "Play or stop", (d) => d.player.toggle()],
    start: [["Home"], "To the start", (d) => d.go(0)],
    middle: [["m"], "To the middle", (d) => d.grid && d.go(d.grid.time[d.grid.length >> 1])],
    end: [["End"], "To the end of the map", (d) => d.grid && d.go(d.grid.time[d.grid.length - 1])],
    "last-bars": [["|"], "To the last bars, a little before the end", lastBars],
    "beat-back": [["ArrowLeft"], "Beat back", (d) => stepBeat(d, -1)],
    "beat-on": [["ArrowRight"], "Beat on", (d) => stepBeat(d, 1)],
    "bar-back": [["Shift+ArrowLeft"], "Bar back", (d) => stepBar(d, -1)],
    "bar-on": [["Shift+ArrowRight"], "Bar on", (d) => stepBar(d, 1)],
    "attack-back": [[";"], "Playhead to the attack before", (d) => stepAttack(d, -1)],
    "attack-on": [["'"], "Playhead to the next attack", (d) => stepAttack(d, 1)],
    "section-back": [["PageUp"], "Section back", (d) => d.marks.go(-1)],
    "section-on": [["PageDown"], "Section on", (d) => d.marks.go(1)],
    loop: [["l"], "Loop this bar, or stop looping", toggleLoop],
    "loop-two": [["Shift+L"], "Loop two bars", loopTwo],
    "stretch-longer": [["Ctrl+ArrowRight"], "Loop a bar more", (d) => stretchBy(d, 1)],
    "stretch-shorter": [["Ctrl+ArrowLeft"], "Loop a bar less", (d) => stretchBy(d, -1)],
    "play-order": [["Shift+B"], "Play the running order", (d) => d.order.play()],
    release: [["b"], "Leave the vamp", (d) => d.order.release()],
    "order-stop": [["u"], "Stop the running order", (d) => d.order.stop()],
    "loop-section": [["\\"], "Loop this section", (d) => d.marks.loop()],
    slow: [["q"], "Slower by 5 %, down to 50 %", (d) => stepPace(d, -0.05)],
    mono: [["Ctrl+;"], "Hear it in mono", (d) => toggleMono(d)],
    fast: [["Shift+U"], "Faster again by 5 %", (d) => stepPace(d, 0.05)],
    click: [["c"], "Click on or off", (d) => toggleClick(d)],
    ears: [["Shift+C"], "Click left, tracks right", (d) => toggleEars(d)],
    lead: [["n"], "Count-in of a bar", (d) => setLead(d, d.player.bars ? 0 : 1)],
    record: [["@"], "Record, or stop recording", (d) => d.recording.toggle()],
    "keep-in-view": [["f"], "Keep the playhead in view", (d) => toggleFollow(d)],
  },
  Doubts: {
    "next-doubt": [["j"], "Next doubt", (d) => d.doubts.step(1)],
    "last-doubt": [["k"], "Previous doubt", (d) => d.doubts.step(-1)],
    hear: [["g"], "Hear it, with the click", (d) => d.doubts.hear()],
    "remedy-1": [["1"], "Take remedy 1", (d) => d.doubts.take(1)],
    "remedy-2": [["2"], "Take remedy 2", (d) => d.doubts.take(2)],
    "remedy-3": [["3"], "Take remedy 3", (d) => d.doubts.take(3)],
    dismiss: [["x"], "Dismiss the doubt", (d) => d.doubts.dismiss()],
  },
  Beat: {
    pin: edits(["p"], "Pin the beat, or unpin it", pinning, CHOOSE_BEAT),
    place: [["!"], "The attack at the playhead is bar …, beat …", (d) => ofBeat(d, "#place-bar")],
    earlier: nudges([","], "1 ms earlier", -0.001),
    later: nudges(["."], "1 ms later", 0.001),
    "much-earlier": nudges(["<"], "10 ms earlier", -0.01),
    "much-later": nudges([">"], "10 ms later", 0.01),
    "attack-before": chosen(["{"], "To the attack before", (beat, d) => ({
      kind: "to-attack",
      beat,
      by: -1,
      reach: d.reach,
    })),
    "attack-after": chosen(["}"], "To the next attack", (beat, d) => ({
      kind: "to-attack",
      beat,
      by: 1,
      reach: d.reach,
    })),
    reach: [["r"], "How far an edit reaches", (d) => d.cycleReach()],
    insert: edits(["i"], "Insert a beat at the playhead", (d) => ({
      kind: "insert",
      to: d.player.seconds,
      snap_within: 14 * d.view.perPixel,
    })),
    remove: chosen(["Delete", "Backspace"], "Remove the beat", (beat) => ({ kind: "remove", beat })),
    flip: [["~"], "Last edit: the other way with later bar lines", (d) => d.editing.flip()],
  },
  Steps: {
    version: [["Shift+V"], "Name this version", (d) => d.panels.reach("steps", "#version")],
    compare: [["Shift+W"], "Compare with another version", (d) => d.compare.withLast()],
    versions: [["a"], "Click of the other version", (d) => d.compare.switchClick()],
    undo: [["Ctrl+z"], "Undo the last thing done", (d) => d.editing.undoRedo(-1)],
    redo: [["Ctrl+Shift+Z", "Ctrl+y"], "Redo", (d) => d.editing.undoRedo(1)],
    leave: [["Escape"], "Choose nothing, forget taps", (d) => d.leave()],
    search: [["Ctrl+/"], "Find a command by its words", (d) => d.searchCommands()],
    help: [["?"], "All keys", () => document.getElementById("help").showModal()],
  },
  "Stretch, or whole map": {
    solve: edits(
      ["Shift+S"],
      "Detect its beats again",
      (d) => (d.loop ? d.stretches.of({ kind: "redetect" }) : null),
      CHOOSE_STRETCH,
    ),
    half: edits(["h"], "Half the tempo", (d) => d.stretches.ratio("1:2")),
    double: edits(["d"], "Double the tempo", (d) => d.stretches.ratio("2:1")),
    "three-two": edits(["4"], "Count 3:2", (d) => d.stretches.ratio("3:2")),
    "two-three": edits(["5"], "Count 2:3", (d) => d.stretches.ratio("2:3")),
    "four-three": edits(["6"], "Count 4:3", (d) => d.stretches.ratio("4:3")),
    "three-four": edits(["7"], "Count 3:4", (d) => d.stretches.ratio("3:4")),
    "other-half": edits(["8"], "Half the tempo, keep the other beats", (d) => d.stretches.ratio("1:2", true)),
    "are-bars": [["Shift+N"], "This stretch is … bars", (d) => d.panels.reach("stretch", "#n-bars")],
    settle: edits(["*"], "Settle its beats on attacks", (d) => d.stretches.of({ kind: "settle" })),
    steady: edits(["y"], "Make it steady", (d) => d.stretches.of({ kind: "steady" })),
    smooth: edits(["Shift+Y"], "Smooth it", (d) => d.stretches.of({ kind: "smooth" })),
    thin: edits(["Shift+T"], "Fewest points", (d) => d.stretches.thinned),
    "every-beat": edits(["Shift+Z"], "A point every beat", (d) => d.stretches.of({ kind: "every", bars: 0 })),
    "every-bar": edits(["z"], "A point every bar", (d) => d.stretches.of({ kind: "every", bars: 1 })),
    "every-two": edits(["Shift+D"], "A point every 2 bars", (d) => d.stretches.of({ kind: "every", bars: 2 })),
    "every-four": edits(["Shift+K"], "A point every 4 bars", (d) => d.stretches.of({ kind: "every", bars: 4 })),
    "half-earlier": edits(["9"], "All half a beat earlier", () => ({ kind: "offbeat", share: -0.5 })),
    "half-later": edits(["0"], "All half a beat later", () => ({ kind: "offbeat", share: 0.5 })),
    "one-earlier": edits(["("], "Every downbeat one beat earlier", () => ({ kind: "downbeat", by: -1 })),
    "one-later": edits([")"], "Every downbeat one beat later", () => ({ kind: "downbeat", by: 1 })),
    lock: [["Shift+P"], "Lock the stretch", (d) => d.marks.set("lock")],
    hold: edits(
      ["Shift+F"],
      "One held beat (fermata)",
      (d) => (d.loop ? d.stretches.of({ kind: "hold" }) : null),
      CHOOSE_STRETCH,
    ),
    free: [["Shift+X"], "Mark music without beats", (d) => d.marks.set("free")],
    section: [["Shift+A"], "Name it as a section", (d) => d.panels.reach("marks", "#section-name")],
    rough: [["/"], "Rough start by hand", (d) => d.panels.reach("stretch", ".rough [name=bpm]")],
    tap: [["t"], "Tap the beats; Enter uses the taps", (d) => d.tapping.tap()],
    "tap-bars": [['"'], "Tap the bar lines; Enter uses the taps", (d) => d.tapping.tap(true)],
    "use-taps": [["Enter"], "Use the taps", (d) => d.tapping.use()],
  },
  Bars: {
    one: chosen(["o"], "Make this beat 1", (beat) => ({ kind: "one", beat })),
    "bar-one": chosen(["Shift+O"], "Bar 1 starts at the beat", (beat) => ({ kind: "number", beat, bar: 1 })),
    split: chosen(["s"], "A bar starts at the beat", (beat) => ({ kind: "split", beat })),
    join: edits(["Shift+J"], "Join the bar with the next", (d) => d.grid && { kind: "join", bar: d.bar }),
    "has-beats": [["Shift+Q"], "This bar has … beats", (d) => ofBeat(d, "[data-edit]")],
    number: [["Shift+R"], "This is bar …", (d) => ofBeat(d, "#bar-number")],
    meter: [["Shift+M"], "Meter of this bar …", (d) => ofBeat(d, "#bar-meter")],
    starts: chosen(["Shift+E"], "Mapped music starts at the beat", (beat) => ({ kind: "starts", beat })),
    ends: chosen(["e"], "Mapped music ends at the beat", (beat) => ({ kind: "ends", beat })),
  },
  Reshape: {
    result: [["Ctrl+Enter"], "Recording, or the reshaped result", (d) => d.reshaping.toggle()],
    tighten: [["$"], "Tighten the stretch", (d) => d.reshaping.tighten()],
    "attack-sooner": [["^"], "The player's attack 5 ms earlier", (d) => d.reshaping.moveAttack(-5)],
    "attack-later": [["&"], "The player's attack 5 ms later", (d) => d.reshaping.moveAttack(5)],
    "attack-grid": [["%"], "The player's attack to the grid", (d) => d.reshaping.moveAttack(null)],
    "engine-on": [["Ctrl+ArrowDown"], "Stretch the player another way", (d) => d.reshaping.stepEngine(1)],
    "engine-back": [["Ctrl+ArrowUp"], "The way before", (d) => d.reshaping.stepEngine(-1)],
  },
  Look: {
    fold: [["v"], "Bars in rows, or tracks", (d) => d.fold.toggle()],
    "row-up": [["ArrowUp"], "Rows: bar back", (d) => d.fold.shown && d.fold.walk(-1)],
    "row-down": [["ArrowDown"], "Rows: bar on", (d) => d.fold.shown && d.fold.walk(1)],
    "fold-order": [["Shift+I"], "Rows: order of the bars", (d) => d.fold.shown && d.fold.reorder()],
    "fold-track": [["Shift+ArrowDown"], "Rows: next track", (d) => d.fold.shown && d.fold.nextTrack()],
    in: [["+", "="], "Zoom in", (d) => (d.fold.shown ? d.fold.zoom(1.25) : d.zoomHere(2))],
    out: [["-"], "Zoom out", (d) => (d.fold.shown ? d.fold.zoom(0.8) : d.zoomHere(-2))],
    table: [["Ctrl+b"], "The bars as a table", (d) => d.openTable()],
    whole: [["w"], "Whole take", (d) => d.view.fit()],
    higher: [["]"], "Higher waveforms", (d) => (d.waves.heighten(1.25), d.redraw())],
    lower: [["["], "Lower waveforms", (d) => (d.waves.heighten(0.8), d.redraw())],
    "lanes-up": [["Ctrl+]"], "Higher lanes", (d) => d.setLaneHeight(1.25)],
    "lanes-down": [["Ctrl+["], "Lower lanes", (d) => d.setLaneHeight(0.8)],
    "lanes-fit": [["Ctrl+\\"], "Lanes as they fit", (d) => d.setLaneHeight(null)],
    tempo: [["Ctrl+'"], "Smooth tempo and sections' averages on or off", (d) => d.tempo.toggle()],
    ticks: [["#"], "Attack marks on or off", (d) => ((d.attacks.shown = !d.attacks.shown), d.redraw())],
    grid: [["Shift+G"], "Stronger grid lines", (d) => d.setGridStrength({ 1: 2, 2: 3.5 }[d.gridStrength] ?? 1)],
    contrast: [["Shift+H"], "High contrast, or as usual", () => LOOK.turnContrast()],
    tour: [["Ctrl+,"], "The tour: seven steps", (d) => d.beginTour()],
    manual: [["F1"], "Help on this pane", () => document.getElementById("manual").click()],
    theme: [["Ctrl+."], "Dark, or light", () => LOOK.turnTheme()],
  },
};

/** To where the last four bars begin: if the click still fits there, nothing broke on the way. */
function lastBars(desk) {
  const { grid } = desk;
  if (!grid) return;
  const lines = grid.time.filter((_, i) => grid.beat[i] === 1);
  if (lines.length) desk.go(lines.at(-5) ?? lines[0]);
}

/** A field of the Beat pane: of the chosen beat, or of the one at the playhead. */
function ofBeat(desk, field) {
  if (!desk.grid) return;
  desk.select(desk.meant);
  desk.panels.reach("beat", field);
}

export const COMMANDS = Object.assign({}, ...Object.values(GROUPS));

/** Single characters can be switched off, for whoever speaks to the page or types by accident (WCAG 2.1.4). */
const SINGLE_OFF = "single-keys-off";
const isSingle = (key) => key !== " " && /^(Shift\+)?.$/u.test(key);

export function commands(desk) {
  const usual = Object.fromEntries(Object.entries(COMMANDS).map(([name, [keys]]) => [name, keys]));
  let keys = readKeys(usual, localStorage);
  const byKey = new Map();
  const use = (wanted) => {
    keys = wanted;
    byKey.clear();
    for (const [name, own] of Object.entries(keys)) for (const key of own) byKey.set(key, name);
  };
  use(keys);
  const run = (name) => {
    desk.wake();
    COMMANDS[name][2](desk);
  };

  const entries = Object.entries(GROUPS).flatMap(([group, members]) =>
    Object.entries(members).map(([name, [, words]]) => ({ name, words, group })),
  );
  desk.searchCommands = commandSearch(entries, run, (name) => keys[name].map(shownKey));
  keyList(entries, {
    keys: () => keys,
    set: (wanted) => (use(wanted), keepKeys(usual, keys, localStorage)),
    reset: () => (use(usual), keepKeys(usual, keys, localStorage)),
  });
  const single = /** @type {HTMLInputElement} */ (document.getElementById("single-keys"));
  single.checked = localStorage.getItem(SINGLE_OFF) !== "yes";
  single.onchange = () => localStorage.setItem(SINGLE_OFF, single.checked ? "no" : "yes");

  addEventListener("keydown", (e) => {
    const field = e.target.closest?.("input:not([type=range], [type=checkbox]), select, textarea, dialog");
    const always = e.key === "Enter" && (e.ctrlKey || e.metaKey); // between recording and result, wherever the focus is
    if (field && !always) {
      if (e.key === "Escape" && field.matches("input, select")) field.blur();
      return;
    }
    if (e.key === " " && (e.target.matches?.("[type=checkbox]") || takesSpace(e.target))) return; // it is pressed
    // a button that has the focus takes Enter, unless taps wait for it
    if (e.key === "Enter" && !always && e.target.matches?.("button, a, summary") && !desk.tapping.taps.length) return;
    const key = keyOf(e);
    const name = byKey.get(key);
    if (!name || e.altKey || (isSingle(key) && !single.checked)) return;
    if (e.target.matches?.("input[type=range]") && key.startsWith("Arrow")) return;
    e.preventDefault();
    if (e.repeat && ["play", "half", "double", "one"].includes(name)) return;
    run(name);
  });
  addEventListener("keyup", (e) => {
    // Space means play, also where a button that was clicked holds the focus
    if (e.key === " " && e.target.matches?.("button") && !takesSpace(e.target)) e.preventDefault();
  });
  forms(desk, run);
  document.addEventListener("change", (e) => {
    if (e.target.matches("[data-lead]")) setLead(desk, Number(e.target.value));
    if (e.target.matches("[data-click]")) setClickStyle(desk);
    if (e.target.id === "pace") setPace(desk, Number(e.target.value) / 100);
  });
  document.addEventListener("input", (e) => {
    if (e.target.id === "click-pan") desk.player.setClickPan(Number(e.target.value));
  });
}
