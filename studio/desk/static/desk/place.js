// @ts-check
// Where the page is, kept in its address: stage, pane, time, zoom. A link leads there, Back and reload do what one expects.

/** @typedef {{stage: string | null, pane: string, at: number, start: number, spp: number}} Place */
/**
 * @typedef {object} Needs
 * @property {{stage: string | null, pane: string, open: (stage: string) => void, turn: (pane: string) => void}} panels
 * @property {{seconds: number, playing: boolean}} player
 * @property {{start: number, spp: number, set: (start: number, spp?: number) => void}} view
 * @property {{bar: number[], time: number[]} | null} grid
 * @property {(seconds: number) => void} go
 */

/** How often the address is brought up to date, in milliseconds; not while the page plays. */
const EVERY = 400;

/**
 * @param {Place} place
 * @returns {string} the address's part behind #
 */
export function written({ stage, pane, at, start, spp }) {
  const parts = { stage, pane, at: at.toFixed(3), from: start.toFixed(3), zoom: spp.toFixed(2) };
  return new URLSearchParams(Object.entries(parts).filter(([, value]) => value !== null && value !== "")).toString();
}

/**
 * What an address asks for; what it cannot mean is left out.
 * @param {string} hash
 */
export function read(hash) {
  const asked = new URLSearchParams(hash.replace(/^#/, ""));
  const number = (name) => {
    const value = Number(asked.get(name) ?? NaN);
    return Number.isFinite(value) && value >= 0 ? value : null;
  };
  const bar = Number(asked.get("bar") ?? NaN);
  return {
    stage: asked.get("stage"),
    pane: asked.get("pane"),
    at: number("at"),
    from: number("from"),
    zoom: number("zoom"),
    bar: Number.isInteger(bar) ? bar : null,
  };
}

/**
 * Open the stage that the address names. What is returned goes to its time and zoom and keeps the address up to date from
 * then on: once the player knows what there is to play.
 * @param {Needs} desk
 * @param {string} usual the stage that is opened where the address names none
 * @returns {() => void}
 */
export function keepPlace(desk, usual) {
  let last = "";
  const now = () => {
    const { panels, player, view } = desk;
    return written({ stage: panels.stage, pane: panels.pane, at: player.seconds, start: view.start, spp: view.spp });
  };
  const open = () => {
    const asked = read(location.hash);
    const tab = [...document.querySelectorAll("[data-stage]")].find(
      (b) => /** @type {HTMLElement} */ (b).dataset.stage === asked.stage,
    );
    if (asked.pane) desk.panels.pane = asked.pane;
    const stage = tab && asked.stage ? asked.stage : usual;
    if (stage !== desk.panels.stage) desk.panels.open(stage);
    else if (asked.pane) desk.panels.turn(asked.pane);
    return asked;
  };
  const follow = () => {
    const asked = open();
    const at = asked.bar === null ? -1 : (desk.grid?.bar.indexOf(asked.bar) ?? -1);
    if (at >= 0 && desk.grid) desk.go(desk.grid.time[at]);
    else if (asked.at !== null) desk.go(asked.at);
    if (asked.from !== null && asked.zoom) desk.view.set(asked.from, asked.zoom);
    last = now();
  };
  const keep = () => {
    const here = now();
    if (here === last) return;
    const stageOf = (hash) => read(hash).stage;
    // Back returns to the previous stage, so a new stage gets its own history entry; other changes update the current one
    const step = stageOf(here) !== stageOf(last) ? "pushState" : "replaceState";
    history[step](null, "", `#${here}`);
    last = here;
  };
  open();
  return () => {
    follow();
    addEventListener("popstate", follow);
    setInterval(() => !desk.player.playing && keep(), EVERY);
    addEventListener("pagehide", () => history.replaceState(null, "", `#${now()}`));
  };
}
