// @ts-check
// Bringing files in: dropped or chosen, sent in parts, each going on where an interrupted one stopped.

import { note, putBytes, send } from "../studio/server.js";

const PART = 4 * 2 ** 20;

/** Send one file; `show(share)` is told how far it is. Resolves to whether it became a track. */
async function sendFile(session, file, show) {
  const begun = await send(`/sessions/${session}/uploads`, { name: file.name, size: file.size });
  if (!begun.ok) {
    note(begun.data.error ?? "The upload could not begin.", true);
    return false;
  }
  let sent = begun.data.received;
  let failures = 0;
  while (sent < file.size) {
    const start = sent;
    const part = file.slice(start, start + PART);
    const answer = await putBytes(`/uploads/${begun.data.id}?offset=${start}`, part, (n) =>
      show((start + n) / file.size),
    );
    if (answer.ok) {
      if (answer.data.track) break;
      sent = answer.data.received;
      failures = 0;
    } else if (answer.status === 409) {
      sent = answer.data.received;
    } else if (answer.status === 0 && failures++ < 4) {
      await new Promise((r) => setTimeout(r, 700 * failures)); // the server may be starting again
      const again = await send(`/sessions/${session}/uploads`, { name: file.name, size: file.size });
      if (again.ok) sent = again.data.received;
    } else {
      note(answer.data.error ?? `“${file.name}” could not be sent.`, true);
      return false;
    }
  }
  show(1);
  return true;
}

/** Send files one after another with a progress bar in `box`; then start finding beats. Resolves to the number of tracks. */
export async function gather(session, files, box) {
  const total = files.reduce((n, f) => n + f.size, 0) || 1;
  const bar = document.createElement("progress");
  bar.max = 1;
  bar.value = 0;
  const words = document.createElement("span");
  words.className = "stage";
  const line = document.createElement("div");
  line.className = "job";
  line.id = "uploading";
  line.append(bar, words);
  box.append(line);
  let before = 0;
  let tracks = 0;
  for (const [i, file] of files.entries()) {
    words.textContent = `Bringing in ${file.name} (${i + 1} of ${files.length})`;
    words.title = file.name;
    if (await sendFile(session, file, (share) => (bar.value = (before + share * file.size) / total))) tracks += 1;
    before += file.size;
    bar.value = before / total;
  }
  line.remove();
  if (tracks) await send(`/sessions/${session}/find`);
  return tracks;
}

/** Files of a drop or a chooser, and of dropped folders, by name. */
async function filesOf(transfer) {
  const out = [];
  const walk = async (entry) => {
    if (entry.isFile) {
      const file = await new Promise((resolve, reject) => entry.file(resolve, reject));
      if (!file.name.startsWith(".")) out.push(file);
    } else {
      const reader = entry.createReader();
      for (;;) {
        const some = await new Promise((resolve, reject) => reader.readEntries(resolve, reject));
        if (!some.length) break;
        for (const e of some) await walk(e);
      }
    }
  };
  const entries = [...transfer.items].map((i) => i.webkitGetAsEntry?.()).filter(Boolean);
  if (entries.length) for (const e of entries) await walk(e);
  else out.push(...transfer.files);
  return out.sort((a, b) => a.name.localeCompare(b.name, "en", { numeric: true }));
}

/** Take drops anywhere on the page, and the files of the chooser `input`. */
export function onFiles(input, take) {
  let depth = 0;
  const holdsFiles = (e) => e.dataTransfer?.types.includes("Files");
  addEventListener("dragenter", (e) => {
    if (holdsFiles(e) && ++depth) document.body.classList.add("dropping");
  });
  addEventListener("dragleave", (e) => {
    if (holdsFiles(e) && --depth <= 0) document.body.classList.remove("dropping");
  });
  addEventListener("dragover", (e) => holdsFiles(e) && e.preventDefault());
  addEventListener("drop", async (e) => {
    if (!holdsFiles(e)) return;
    e.preventDefault();
    depth = 0;
    document.body.classList.remove("dropping");
    const files = await filesOf(e.dataTransfer);
    if (files.length) take(files);
  });
  input?.addEventListener("change", () => {
    if (input.files.length) take([...input.files]);
    input.value = "";
  });
}
