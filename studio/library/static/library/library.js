// @ts-check
// The library page: a drop makes a session and opens its desk when the files have arrived.

import { gather, onFiles } from "./gather.js";
import { note, send, sendForm } from "../studio/server.js";

async function take(files, folder) {
  // called by what its files or their folder are called; where those tell nothing, by the day
  const day = new Date().toLocaleDateString("en-GB", { day: "numeric", month: "long" });
  const names = files.map((f) => f.name);
  const made = await send("/sessions/new", { names, folder, title: `Session of ${day}` });
  if (!made.ok) return note(made.data.error, true);
  if (await gather(made.data.id, files, document.getElementById("sending"))) location.href = made.data.url;
  else await send(`/sessions/${made.data.id}`, undefined, "DELETE");
}

/** A session with the tempo map and the notes of a MIDI file. */
async function startFrom(file) {
  const made = await sendForm("/sessions/from-song", { file });
  if (made.ok) location.href = made.data.url;
  else note(made.data.error ?? "The session could not be made.", true);
}

onFiles(document.getElementById("choose"), take);
document.getElementById("song").addEventListener("change", (e) => {
  const field = /** @type {HTMLInputElement} */ (e.target);
  if (field.files.length) startFrom(field.files[0]);
  field.value = "";
});
document.body.dataset.ready = "yes";
