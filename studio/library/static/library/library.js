// @ts-check
// The library page: a drop makes a session and opens its desk when the files have arrived.

import { gather, onFiles } from "./gather.js";
import { note, send } from "../studio/server.js";

async function take(files) {
  const title =
    files.length === 1
      ? files[0].name.replace(/\.[^.]+$/, "")
      : `Session of ${new Date().toLocaleDateString("en-GB", { day: "numeric", month: "long" })}`;
  const made = await send("/sessions/new", { title });
  if (!made.ok) return note(made.data.error, true);
  if (await gather(made.data.id, files, document.getElementById("sending"))) location.href = made.data.url;
  else await send(`/sessions/${made.data.id}`, undefined, "DELETE");
}

onFiles(document.getElementById("choose"), take);
document.body.dataset.ready = "yes";
