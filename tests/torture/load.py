"""Ten people at once: four edit, four play sixteen tracks each, two bring in recordings.

``python -m tests.torture.load --minutes 10``. Prints how long edits took, how many blocks of sound came too late, and
the server's memory, minute by minute.
"""

from __future__ import annotations

import argparse
import hashlib
import io
import json
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from http.cookiejar import CookieJar
from pathlib import Path

import mido
import numpy as np
import soundfile as sf

from studio.streaming import BLOCK
from tests.browser.studio import Studio
from tests.shared import digest_of_upload

RATE, TRACKS, SECONDS = 48_000, 16, 60
#: Seconds between two edits of one person, and between two files that one brings in.
EDIT_EVERY, FILE_EVERY = 0.5, 2.0
#: Blocks that the page has before it begins to play.
AHEAD = 2


class Person:
    """One browser: cookies and the token of its own."""

    def __init__(self, url: str) -> None:
        self.url, self.cookies = url, CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.cookies))
        self.ask("/")

    def ask(self, path: str, data: bytes | None = None, kind: str = "application/json", **headers: str) -> bytes:
        method = headers.pop("method", None)
        token = next((c.value for c in self.cookies if c.name == "csrftoken"), "")
        sent = {"Content-Type": kind, "X-CSRFToken": token or "", **headers}
        request = urllib.request.Request(self.url + path, data, sent, method=method)
        with self.opener.open(request, timeout=60) as answer:
            return answer.read()

    def json(self, path: str, data: object = None) -> dict:
        return json.loads(self.ask(path, None if data is None else json.dumps(data).encode()))

    def bring(self, session: int, name: str, data: bytes) -> None:
        going = self.json(f"/sessions/{session}/uploads", {"name": name, "size": len(data), "fresh": True})["id"]
        for at in range(0, len(data), 4 << 20):
            piece = data[at : at + (4 << 20)]
            self.ask(f"/uploads/{going}?offset={at}", piece, "application/octet-stream", method="PUT",
                     **{"X-Digest": hashlib.sha256(piece).hexdigest()})  # fmt: skip
        self.json(f"/uploads/{going}/finish", {"digest": digest_of_upload(data), "among": [name]})

    def song(self) -> int:
        """A session with a map: started from a programmed song."""
        file = io.BytesIO()
        midi = mido.MidiFile()
        midi.tracks.append(mido.MidiTrack([mido.MetaMessage("set_tempo", tempo=500_000)]))
        notes = [mido.Message("note_on", note=36, velocity=90, time=480 * (k > 0)) for k in range(800)]
        midi.tracks.append(mido.MidiTrack(notes))
        midi.save(file=file)
        edge = "----load"
        head = f'--{edge}\r\nContent-Disposition: form-data; name="file"; filename="song.mid"\r\n\r\n'
        body = head.encode() + file.getvalue() + f"\r\n--{edge}--\r\n".encode()
        return json.loads(self.ask("/sessions/from-song", body, f"multipart/form-data; boundary={edge}"))["id"]


class Load:
    def __init__(self, studio: Studio) -> None:
        self.studio, self.over = studio, threading.Event()
        self.edits: list[float] = []
        self.blocks = self.late = self.files = 0
        self.wrong: list[str] = []

    def edit(self, person: Person) -> Callable[[], None]:
        session = person.song()

        def run() -> None:
            step, k = person.json(f"/sessions/{session}/map")["step"], 0
            while not self.over.wait(EDIT_EVERY):
                k += 1
                body = {"kind": "nudge", "beat": 4 + k % 700, "by": 0.004 * (-1) ** (k // 700), "step": step}
                begun = time.monotonic()
                step = person.json(f"/sessions/{session}/edit", body)["step"]
                self.edits.append(time.monotonic() - begun)

        return run

    def play(self, person: Person) -> Callable[[], None]:
        session = person.json("/sessions/new", {"names": ["x"]})["id"]
        rng = np.random.default_rng(session)
        for k in range(TRACKS):
            person.bring(session, f"track {k}.wav", noise(rng, SECONDS))

        def run() -> None:
            tracks = [t["id"] for t in person.json(f"/sessions/{session}/facts")["tracks"]]
            blocks = SECONDS * RATE // BLOCK
            while not self.over.is_set():
                begins = None
                for n in range(blocks):
                    person.ask(f"/sessions/{session}/blocks/{n}?tracks={','.join(map(str, tracks))}")
                    if n == AHEAD - 1:
                        begins = time.monotonic()
                    if begins is not None and n >= AHEAD:
                        due = begins + n * BLOCK / RATE
                        self.blocks += 1
                        self.late += time.monotonic() > due
                        # the page keeps some blocks ahead, not all
                        self.over.wait(max(0.0, due - time.monotonic() - 4 * BLOCK / RATE))
                    if self.over.is_set():
                        return

        return run

    def send(self, person: Person) -> Callable[[], None]:
        rng = np.random.default_rng(7)

        def run() -> None:
            while not self.over.wait(FILE_EVERY):
                session = person.json("/sessions/new", {"names": ["y"]})["id"]
                person.bring(session, "take.wav", noise(rng, 20))
                self.files += 1

        return run


def noise(rng: np.random.Generator, seconds: int) -> bytes:
    out = io.BytesIO()
    sf.write(out, (0.1 * rng.standard_normal(seconds * RATE)).astype(np.float32), RATE, "PCM_16", format="WAV")
    return out.getvalue()


def main() -> None:
    ask = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    ask.add_argument("--minutes", type=float, default=10)
    minutes = ask.parse_args().minutes
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder)).start()
        try:
            load = Load(studio)
            doing = [load.edit] * 4 + [load.play] * 4 + [load.send] * 2
            prepared = [what(Person(studio.url)) for what in doing]
            waiting = Person(studio.url)
            while b"Nothing is being worked on" not in waiting.ask("/queue") and studio.process.is_running():
                time.sleep(1)
            threads = [threading.Thread(target=guarded, args=(load, run), daemon=True) for run in prepared]
            for t in threads:
                t.start()
            server, ends = studio.process, time.monotonic() + 60 * minutes
            while time.monotonic() < ends:
                time.sleep(min(60, max(0.1, ends - time.monotonic())))
                print(
                    f"{server.memory_info().rss / 2**20:.0f} MB, {len(load.edits)} edits, {load.files} files",
                    flush=True,
                )
            load.over.set()
            for t in threads:
                t.join(timeout=30)
        finally:
            studio.stop()
    p50, p95 = np.percentile(load.edits, [50, 95]) * 1000
    print(f"{len(load.edits)} edits: median {p50:.0f} ms, p95 {p95:.0f} ms")
    print(f"{load.blocks} blocks of {TRACKS} tracks, {load.late} too late; {load.files} recordings brought in")
    print("wrong:", load.wrong or "nothing")


def guarded(load: Load, run: Callable[[], None]) -> None:
    try:
        run()
    except Exception as e:  # what is looked for
        load.wrong.append(f"{type(e).__name__}: {e}")


if __name__ == "__main__":
    main()
