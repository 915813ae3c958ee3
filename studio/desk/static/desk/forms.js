// @ts-check
// Buttons and small forms of the panels: each says in its data what it does.

import { note, send } from "../studio/server.js";

/** @typedef {Pick<import("./desk.js").Desk, "commands" | "doubts" | "editing" | "stretches">} Needs what this uses of the desk */

/** attribute: what a click on a button that has it does */
const BUTTONS = {
  edit: (d, data) => d.editing.make(JSON.parse(data.edit)),
  step: (d, data) => d.editing.goTo(Number(data.step)),
  compare: (d, data) => d.compare.with(Number(data.compare)),
  pane: (d, data) => d.panels.turn(data.pane),
  reach: (d, data) => d.setReach(data.reach),
  ratio: (d, data) => d.editing.make(d.stretches.ratio(data.ratio, "others" in data)),
  score: (d, data) => d.panels.score(`part-${data.score}`),
  mark: (d, data) => d.marks.set(data.mark),
};

/**
 * The edit that a press of a button would make, if it makes one.
 * @param {any} desk
 * @param {Record<string, string | undefined>} data
 * @param {Needs} desk
 */
function would(desk, { edit, ratio, others, do: name }) {
  if (edit) return JSON.parse(edit);
  return ratio ? desk.stretches.ratio(ratio, others !== undefined) : desk.commands[name]?.[3]?.(desk);
}

/** selector: what submitting such a form does */
const FORMS = {
  "[data-meter]": (d, form, e) => {
    const meter = form.elements.meter.value.trim();
    if (!meter) return note("Write a meter like 4/4, 6/8 or 2+2+3/8.", true);
    return d.editing.make({
      kind: "meter",
      bar: Number(form.dataset.meter),
      meter,
      only: e.submitter?.value === "only",
    });
  },
  "[data-number]": (d, form) =>
    d.editing.make({ kind: "number", beat: Number(form.dataset.number), bar: Number(form.elements.bar.value) }),
  "#place-form": (d, form) =>
    d.editing.make({
      kind: "place",
      at: d.player.seconds,
      bar: Number(form.elements.bar.value),
      beat: Number(form.elements.beat.value || 1),
    }),
  "#drift-form": (d, form) => {
    const bpm = Number(form.elements.bpm.value.replace(",", "."));
    if (!(bpm >= 10 && bpm <= 600)) return note("A tempo lies between 10 and 600 beats a minute.", true);
    return d.player.steadyClick(bpm);
  },
  "#settle-form": (d, form) =>
    d.editing.make(d.stretches.of({ kind: "settle", within: Number(form.elements.within.value) / 1000 })),
  "#are-bars": (d, form) =>
    d.loop
      ? d.editing.make(
          d.stretches.of({
            kind: "bars",
            bars: Number(form.elements.bars.value),
            meter: form.elements.meter.value.trim() || null,
          }),
        )
      : note("Choose a stretch first: drag along the time above the bars.", true),
  "#new-section": (d, form) => d.marks.set("section", form.elements.name.value),
  "#name-version": async (d, form) => {
    const { ok, data } = await send(`/sessions/${d.facts.id}/version`, { name: form.elements.name.value });
    if (!ok) return note(data.error, true);
    return d.panels.refresh();
  },
  ".rough": (d, form) =>
    d.editing.make({
      kind: "rough",
      bpm: Number(form.elements.bpm.value.replace(",", ".")),
      meter: form.elements.meter.value,
      at: d.player.seconds,
    }),
};

/** @param {Needs} desk */
export function forms(desk, run) {
  document.addEventListener("click", (e) => {
    const button = e.target.closest("button, [data-do]");
    if (!button) return;
    if (button.dataset.do) return run(button.dataset.do);
    const row = button.closest("[data-doubt]");
    if (row && button.classList.contains("where")) return desk.doubts.visit(Number(row.dataset.doubt));
    for (const [name, act] of Object.entries(BUTTONS)) if (name in button.dataset) return act(desk, button.dataset);
    return undefined;
  });
  document.addEventListener("submit", (e) => {
    for (const [selector, act] of Object.entries(FORMS)) {
      if (!e.target.matches(selector)) continue;
      e.preventDefault();
      document.activeElement?.blur(); // the keys are the desk's again
      return act(desk, e.target, e);
    }
    return undefined;
  });
  // what a remedy or another button would do shows while the pointer rests on it, or the keys have come to it
  document.addEventListener("focusin", (e) => {
    const button = /** @type {HTMLElement} */ (e.target);
    const shown = button.matches?.(":focus-visible[data-edit]") && would(desk, button.dataset);
    if (shown) desk.editing.glance(shown);
    else desk.editing.endGlance();
  });
  let glanced = null;
  document.addEventListener("pointermove", (e) => {
    const button =
      e.pointerType === "mouse" && !e.buttons ? e.target.closest?.("[data-edit], [data-ratio], [data-do]") : null;
    if (button === glanced) return;
    desk.editing.endGlance();
    glanced = button;
    const shown = button && would(desk, button.dataset);
    if (shown) desk.editing.glance(shown);
  });
}
