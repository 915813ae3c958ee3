// @ts-check
// The library page: a drop makes a session and opens its desk when the files have arrived.

import { gather, onFiles } from "./gather.js";
import { goTo, loadAgain } from "../studio/leaving.js";
import { note, send, sendForm } from "../studio/server.js";

const isArchive = (file) => file.name.toLowerCase().endsWith(".zip");

/** What a session is called whose files tell nothing. */
const titleOfToday = () => `Session of ${new Date().toLocaleDateString("en-GB", { day: "numeric", month: "long" })}`;

/** Addresses of the sessions whose files are here, how many drops are being brought in, whether one was cancelled. */
const arrived = [];
let taking = 0;
let wasCancelled = false;

/**
 * The groups of which each becomes a session: every folder, every archive of a session, all loose files together.
 * @param {import("./gather.js").Group} group
 */
const sessionsOf = ({ files, folder }) =>
  [
    ...files.filter(isArchive).map((f) => ({ files: [f], folder: "" })),
    { files: files.filter((f) => !isArchive(f)), folder },
  ].filter((g) => g.files.length);

/**
 * Bring in what was dropped. When all drops are here the page goes on: to the desk, or where there are several sessions
 * or a drop was cancelled, to the list of sessions.
 * @param {import("./gather.js").Group[]} groups
 */
async function take(groups) {
  taking += 1;
  for (const { files, folder } of groups.flatMap(sessionsOf)) {
    const { url, cancelled } = await takeTogether(files, folder);
    if (url) arrived.push(url);
    if (cancelled) {
      wasCancelled = true;
      break;
    }
  }
  taking -= 1;
  if (taking) return;
  if (arrived.length === 1 && !wasCancelled) goTo(arrived[0]);
  else if (arrived.length) loadAgain();
  wasCancelled = false;
}

/** Resolves to the address of the session, if any file of it could be brought in, and whether the rest was cancelled. */
async function takeTogether(files, folder) {
  // called by what its files or their folder are called; where those tell nothing, by the day
  const names = files.map((f) => f.name);
  const made = await send("/sessions/new", { names, folder, title: titleOfToday() });
  if (!made.ok) {
    note(made.data.error, true);
    return { url: null, cancelled: false };
  }
  const { tracks, cancelled } = await gather(made.data.id, files, document.getElementById("sending"));
  if (!tracks) await send(`/sessions/${made.data.id}`, undefined, "DELETE");
  return { url: tracks ? made.data.url : null, cancelled };
}

/** A session with the tempo map and the notes of a MIDI file. */
async function startFrom(file) {
  const made = await sendForm("/sessions/from-song", { file });
  if (made.ok) location.href = made.data.url;
  else note(made.data.error ?? "The session could not be made.", true);
}

/** An empty session, and its Record pane. */
async function record() {
  const made = await send("/sessions/new", { title: titleOfToday() });
  if (made.ok) location.href = `${made.data.url}#stage=gather&pane=record`;
  else note(made.data.error ?? "The session could not be made.", true);
}

onFiles(document.getElementById("choose"), take);
document.getElementById("record-take").addEventListener("click", record);
document.getElementById("song").addEventListener("change", (e) => {
  const field = /** @type {HTMLInputElement} */ (e.target);
  if (field.files.length) startFrom(field.files[0]);
  field.value = "";
});
/** Days in the zone of whoever looks. */
function localDays() {
  for (const el of /** @type {NodeListOf<HTMLTimeElement>} */ (document.querySelectorAll(".sheet time")))
    el.textContent = new Date(el.dateTime).toLocaleDateString("en-GB", {
      day: "numeric",
      month: "short",
      year: "numeric",
    });
}

document.body.addEventListener("htmx:afterSwap", localDays);
localDays();
document.body.dataset.ready = "yes";
