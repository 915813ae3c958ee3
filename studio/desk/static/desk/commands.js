// Every command with its keys, its words for the help, and what it does.

import { note } from "../studio/server.js";

/** name: [keys, words, action(desk)] */
export const COMMANDS = {
  play: [[" "], "Play or stop", (d) => d.player.toggle()],
  start: [["Home"], "To the start", (d) => d.go(0)],
  end: [["End"], "To the end of the map", (d) => d.grid && d.go(d.grid.time[d.grid.length - 1])],
  "beat-back": [["ArrowLeft"], "Beat back", (d) => d.stepBeat(-1)],
  "beat-on": [["ArrowRight"], "Beat on", (d) => d.stepBeat(1)],
  "bar-back": [["Shift+ArrowLeft"], "Bar back", (d) => d.stepBar(-1)],
  "bar-on": [["Shift+ArrowRight"], "Bar on", (d) => d.stepBar(1)],
  loop: [["l"], "Loop this bar, or stop looping", (d) => d.toggleLoop()],
  click: [["c"], "Click on or off", (d) => d.toggleClick()],
  lead: [["n"], "Count-in of a bar", (d) => d.setLead(d.player.bars ? 0 : 1)],
  follow: [["f"], "Keep the playhead in view", (d) => d.toggleFollow()],
  earlier: [[","], "Chosen beat 1 ms earlier", (d) => d.nudge(-0.001)],
  later: [["."], "Chosen beat 1 ms later", (d) => d.nudge(0.001)],
  "much-earlier": [["<"], "Chosen beat 10 ms earlier", (d) => d.nudge(-0.01)],
  "much-later": [[">"], "Chosen beat 10 ms later", (d) => d.nudge(0.01)],
  one: [["1"], "Chosen beat is one", (d) => d.onChosen((beat) => ({ kind: "one", beat }))],
  insert: [["i"], "Insert a beat at the playhead", (d) => d.editing.make({ kind: "insert", to: d.player.seconds, reach: 14 * d.view.perPixel })],
  remove: [["Delete", "Backspace"], "Remove the chosen beat", (d) => d.onChosen((beat) => ({ kind: "remove", beat }))],
  half: [["h"], "Half the tempo", (d) => d.editing.make({ kind: "half" })],
  double: [["d"], "Double the tempo", (d) => d.editing.make({ kind: "double" })],
  "one-earlier": [["("], "Downbeat a beat earlier", (d) => d.editing.make({ kind: "downbeat", by: -1 })],
  "one-later": [[")"], "Downbeat a beat later", (d) => d.editing.make({ kind: "downbeat", by: 1 })],
  undo: [["Ctrl+z"], "Undo", (d) => d.editing.travel(-1)],
  redo: [["Ctrl+Shift+Z", "Ctrl+y"], "Redo", (d) => d.editing.travel(1)],
  in: [["+", "="], "Zoom in", (d) => d.zoomHere(2)],
  out: [["-"], "Zoom out", (d) => d.zoomHere(-2)],
  whole: [["w"], "Whole take", (d) => d.view.fit()],
  higher: [["]"], "Higher waveforms", (d) => d.setWaveGain(d.waveGain * 1.25)],
  lower: [["["], "Lower waveforms", (d) => d.setWaveGain(d.waveGain * 0.8)],
  leave: [["Escape"], "Choose nothing", (d) => d.select(null)],
  help: [["?"], "All keys", () => document.getElementById("help").showModal()],
};

const SHOWN = { " ": "Space", ArrowLeft: "←", ArrowRight: "→", "Shift+ArrowLeft": "Shift ←", "Shift+ArrowRight": "Shift →", "Ctrl+z": "Ctrl Z", "Ctrl+Shift+Z": "Ctrl Shift Z", "Ctrl+y": "Ctrl Y", Escape: "Esc" };
const NEEDS_SHIFT = /^[^a-zA-Z]$/; // characters that a keyboard may put on Shift

export function commands(desk) {
  const byKey = new Map();
  for (const [name, [keys]] of Object.entries(COMMANDS)) for (const key of keys) byKey.set(key, name);
  const run = (name) => {
    desk.wake();
    COMMANDS[name][2](desk);
  };

  addEventListener("keydown", (e) => {
    const field = e.target.closest?.("input:not([type=range]), select, textarea, dialog");
    if (field) return;
    let key = e.key;
    if (e.shiftKey && !NEEDS_SHIFT.test(key)) key = `Shift+${key}`;
    if (e.ctrlKey || e.metaKey) key = `Ctrl+${key}`;
    const name = byKey.get(key);
    if (!name || e.altKey) return;
    if (e.target.matches?.("input[type=range]") && key.startsWith("Arrow")) return;
    e.preventDefault();
    if (e.repeat && ["play", "half", "double", "one"].includes(name)) return;
    run(name);
  });
  addEventListener("keyup", (e) => {
    // Space means play, also where a button holds the focus
    if (e.key === " " && e.target.matches?.("button")) e.preventDefault();
  });
  document.addEventListener("click", (e) => {
    const button = e.target.closest("[data-do]");
    if (button) run(button.dataset.do);
    const edit = e.target.closest("[data-edit]");
    if (edit) desk.editing.make(JSON.parse(edit.dataset.edit));
    const where = e.target.closest("[data-at]");
    if (where) desk.visit(Number(where.dataset.beat), Number(where.dataset.at));
    const step = e.target.closest("[data-go]");
    if (step) desk.editing.travel(Number(step.dataset.go) - desk.here);
  });
  document.addEventListener("submit", (e) => {
    const form = e.target.closest("[data-meter]");
    if (!form) return;
    e.preventDefault();
    const meter = form.elements.meter.value.trim();
    if (!meter) return note("Write a meter like 4/4, 6/8 or 2+2+3/8.", true);
    desk.editing.make({ kind: "meter", bar: Number(form.dataset.meter), meter, only: e.submitter?.value === "only" });
  });
  document.addEventListener("change", (e) => {
    if (e.target.matches("[data-lead]")) desk.setLead(Number(e.target.value));
  });

  const list = document.getElementById("keys");
  for (const [keys, words] of Object.values(COMMANDS)) {
    const row = document.createElement("div");
    const dt = document.createElement("dt");
    dt.append(...keys.flatMap((k) => [Object.assign(document.createElement("kbd"), { textContent: SHOWN[k] ?? k.toUpperCase() }), " "]));
    const dd = Object.assign(document.createElement("dd"), { textContent: words });
    row.append(dt, dd);
    list.append(row);
  }
}
