// @ts-check
// A short way round the desk in seven steps, with real edits that Undo takes back. It can be left at any time.

/** @typedef {Pick<import("./desk.js").Desk, "doubts" | "facts" | "go" | "grid" | "panels" | "player" | "select" | "step">} Needs what this uses of the desk */

/**
 * One step: what is shown, what is said, and when it is done. `begin` may prepare it and returns what `done` compares with.
 * @typedef {{at: string, words: string, begin?: (desk: Needs) => any, done?: (desk: Needs, was: any) => boolean}} Step
 */

/** Open a stage at one of its panes, which comes with it. */
function turn(desk, stage, pane) {
  desk.panels.pane = pane;
  desk.panels.open(stage);
}

/** @type {Step[]} */
const STEPS = [
  {
    at: "#contour",
    words:
      "This was played without a click. The red lines are its bars, the grey ones its beats; each dot is the tempo of a beat.",
  },
  {
    at: "#play",
    words: "Press Play, or Space. The click follows the players, not the other way round.",
    done: (desk) => desk.player.playing,
  },
  {
    at: "#panel",
    words: "Here is what may be wrong, with the reason. Press the first one: the desk goes there.",
    begin: (desk) => (turn(desk, "check", "doubts"), desk.player.at),
    done: (desk, was) => !desk.player.playing && desk.player.at !== was,
  },
  {
    at: "#lanes",
    words:
      "Drag any line a little to the left or right: it snaps to an attack, and only its own place changes. Or choose one and press . or , for a millisecond.",
    begin: (desk) => desk.step,
    done: (desk, was) => desk.step !== was,
  },
  {
    at: "[data-do=undo]",
    words: "Nothing is ever lost: each thing done is a step. Take yours back with Undo, or Ctrl Z.",
    begin: (desk) => desk.step,
    done: (desk, was) => desk.step !== was,
  },
  {
    at: "#panel",
    words: "What is added follows the map. Choose a pattern and press Add: it rides the bars, wherever you move them.",
    begin: (desk) => (turn(desk, "follow", "parts"), desk.facts.parts.length),
    done: (desk, was) => desk.facts.parts.length > was,
  },
  {
    at: "#panel",
    words:
      "Take it with you: the tempo map as a MIDI file, the click, loops, notation, or all of it as a bundle. That was the tour; ? shows all keys, Help explains each pane.",
    begin: (desk) => turn(desk, "deliver", "bundles"),
  },
];
const LOOK_EVERY = 250; // milliseconds

export class Tour {
  /** @param {Needs} desk */
  constructor(desk) {
    this.desk = desk;
    this.at = -1;
  }

  begin() {
    if (this.at >= 0) return;
    this.card = document.createElement("section");
    this.card.className = "tour";
    this.card.setAttribute("aria-label", "Tour");
    this.card.tabIndex = -1;
    this.card.addEventListener("click", (e) => {
      const what = e.target.closest("[data-tour]")?.dataset.tour;
      if (what === "leave") this.leave();
      else if (what) this.show(this.at + Number(what));
    });
    this.card.addEventListener("keydown", (e) => {
      if (e.key !== "Escape") return;
      e.stopPropagation();
      this.leave();
    });
    document.body.append(this.card);
    this.timer = setInterval(() => this.#look(), LOOK_EVERY);
    this.show(0);
    this.card.focus();
  }

  show(number) {
    if (number < 0 || number >= STEPS.length) return this.leave();
    this.at = number;
    const step = STEPS[number];
    this.was = step.begin?.(this.desk);
    this.met = false;
    this.card.innerHTML = `<p class="count">Tour, ${number + 1} of ${STEPS.length}</p><p role="status"></p>
      <div class="row"><button class="key" data-tour="-1"${number ? "" : " disabled"}>Back</button>
      <button class="key main" data-tour="1">${number < STEPS.length - 1 ? "Next" : "Done"}</button>
      <button class="key quiet" data-tour="leave">Leave the tour</button></div>`;
    this.card.querySelector("[role=status]").textContent = step.words;
    this.#mark(step.at);
    return undefined;
  }

  #mark(selector) {
    for (const el of document.querySelectorAll(".shown-by-tour")) el.classList.remove("shown-by-tour");
    if (selector) document.querySelector(selector)?.classList.add("shown-by-tour");
  }

  /** Go on once what was asked for has been done. */
  #look() {
    const { done } = STEPS[this.at];
    if (this.met || !done?.(this.desk, this.was)) return;
    this.met = true;
    this.card.classList.add("met");
    setTimeout(() => {
      this.card?.classList.remove("met");
      if (this.met) this.show(this.at + 1);
    }, 900);
  }

  leave() {
    clearInterval(this.timer);
    this.#mark("");
    this.card?.remove();
    this.card = null;
    this.at = -1;
    this.met = false;
    return undefined;
  }
}

/** Whether the address asks for the tour: that is how `make demo` opens the page. */
export const isAskedFor = () => new URLSearchParams(location.hash.slice(1)).has("tour");
