// @ts-check
// The library page: a drop makes a session and opens its desk when the files have arrived.

import { gather, onFiles } from "./gather.js";
import { goTo, loadAgain } from "../studio/leaving.js";
import { note, send, sendForm } from "../studio/server.js";

const isArchive = (file) => file.name.toLowerCase().endsWith(".zip");

/** What a session is called whose files tell nothing. */
const titleOfToday = () => `Session of ${new Date().toLocaleDateString("en-GB", { day: "numeric", month: "long" })}`;

/** Addresses of the sessions whose files are here, and how many drops are being brought in. */
const arrived = [];
let taking = 0;

/**
 * Each folder is a session, and so is each archive of one; loose files that are dropped together are one. When all drops
 * are here the page goes on.
 * @param {import("./gather.js").Group[]} groups
 */
async function take(groups) {
  taking += 1;
  for (const { files, folder } of groups) {
    for (const archive of files.filter(isArchive)) arrived.push(await takeTogether([archive], ""));
    const tracks = files.filter((f) => !isArchive(f));
    if (tracks.length) arrived.push(await takeTogether(tracks, folder));
  }
  taking -= 1;
  if (taking) return;
  const urls = arrived.filter(Boolean);
  if (urls.length === 1) goTo(urls[0]);
  else if (urls.length) loadAgain();
}

/** Resolves to the address of the session, or to nothing where none of the files could be brought in. */
async function takeTogether(files, folder) {
  // called by what its files or their folder are called; where those tell nothing, by the day
  const names = files.map((f) => f.name);
  const made = await send("/sessions/new", { names, folder, title: titleOfToday() });
  if (!made.ok) {
    note(made.data.error, true);
    return null;
  }
  if (await gather(made.data.id, files, document.getElementById("sending"))) return made.data.url;
  await send(`/sessions/${made.data.id}`, undefined, "DELETE");
  return null;
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
