"""The server and its workers are killed again and again while three windows edit: nothing acknowledged is lost."""

from __future__ import annotations

import json
import os
import random
import signal
import sqlite3
import tempfile
import threading
import time
import urllib.error
import urllib.request
from contextlib import closing, suppress
from dataclasses import dataclass, field
from http.cookiejar import CookieJar
from pathlib import Path

from tests.browser.studio import Studio

SESSION = 3


@dataclass
class Told:
    """What the server acknowledged to one window; ``sent``: the level that was under way last."""

    steps: list[int] = field(default_factory=list)
    marks: list[str] = field(default_factory=list)
    chords: list[int] = field(default_factory=list)
    level: float | None = None
    sent: float | None = None
    odd: list[str] = field(default_factory=list)


class Window(threading.Thread):
    """Edits through the page's own requests; after an interruption it goes on from what the server has."""

    def __init__(self, studio: Studio, number: int, track: int) -> None:
        super().__init__(daemon=True)
        self.studio, self.number, self.track = studio, number, track
        self.rng, self.told, self.over = random.Random(number), Told(), threading.Event()
        self.cookies = CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.cookies))
        self.count = 0

    def run(self) -> None:
        while not self.over.is_set():
            try:
                self._once()
            except (OSError, urllib.error.URLError, ValueError, ConnectionError):
                time.sleep(0.05)  # the server is away

    def _ask(self, path: str, body: object = None) -> tuple[int, dict]:
        token = next((c.value for c in self.cookies if c.name == "csrftoken"), "")
        headers = {"Content-Type": "application/json", "X-CSRFToken": token}
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(self.studio.url + path, data, headers)
        try:
            with self.opener.open(request, timeout=10) as answer:
                return answer.status, json.loads(answer.read() or b"{}") if path.find("/desk") < 0 else {}
        except urllib.error.HTTPError as e:
            if e.code >= 500 and e.code not in (503, 507):
                self.told.odd.append(f"{path}: {e.code} {e.read()[:200]!r}")
            return e.code, {}

    def _once(self) -> None:
        if not list(self.cookies):
            self._ask(f"/sessions/{SESSION}/desk")
        self.count += 1
        what = self.rng.choice(["edit", "edit", "level", "mark", "chord"])
        if what == "level":
            self.told.sent = round(self.rng.uniform(-30, 0), 3)
            if self._ask(f"/tracks/{self.track}", {"gain": self.told.sent})[0] == 200:
                self.told.level = self.told.sent
        elif what == "mark":
            name = f"w{self.number}-{self.count}"
            start = self.rng.uniform(5, 60)
            asked = {"kind": "section", "name": name, "stretch": [start, start + 8]}
            if self._ask(f"/sessions/{SESSION}/mark", asked)[0] == 200:
                self.told.marks.append(name)
        elif what == "chord":
            _, lane = self._ask(f"/sessions/{SESSION}/chords")
            asked = {
                "step": lane.get("step"),
                "at": self.rng.uniform(5, 60),
                "text": self.rng.choice(["Am", "F", "G7"]),
            }
            status, answer = self._ask(f"/sessions/{SESSION}/chords/edit", asked)
            if status == 200:
                self.told.chords.append(answer["step"])
        else:
            _, state = self._ask(f"/sessions/{SESSION}/map")
            asked = {"kind": "pin", "beat": self.rng.randint(5, 120), "on": self.rng.random() < 0.7}
            status, answer = self._ask(f"/sessions/{SESSION}/edit", {**asked, "step": state.get("step")})
            if status == 200 and not answer.get("unchanged"):
                self.told.steps.append(answer["step"])


@dataclass
class Outcome:
    kills: int = 0
    acknowledged: int = 0
    wrong: list[str] = field(default_factory=list)


def killed(kills: int, seed: int) -> Outcome:
    """So many kills of the server, a worker, or both, while windows edit."""
    rng, out = random.Random(seed), Outcome()
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
        studio = Studio(Path(folder), demo=True).start()
        with closing(sqlite3.connect(Path(folder) / "diachron.sqlite3")) as database:
            tracks = [r[0] for r in database.execute("SELECT id FROM library_track WHERE session_id=?", (SESSION,))]
        windows = [Window(studio, n, tracks[n]) for n in range(3)]
        for window in windows:
            window.start()
        for _ in range(kills):
            time.sleep(rng.uniform(0.2, 1.2))
            what = rng.choice(["server", "server", "worker", "both"])
            out.kills += 1
            if what != "server" and (pid := studio.worker()):
                with suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGKILL)
            if what != "worker":
                studio.kill()
                studio.start()
        for window in windows:
            window.over.set()
        for window in windows:
            window.join(timeout=20)
        studio.kill()
        out.wrong += _missing(Path(folder) / "diachron.sqlite3", windows)
        out.acknowledged = sum(len(w.told.steps) + len(w.told.marks) + len(w.told.chords) for w in windows)
    return out


def _missing(path: Path, windows: list[Window]) -> list[str]:
    wrong = []
    with closing(sqlite3.connect(path)) as database:
        if (found := database.execute("PRAGMA integrity_check").fetchone()[0]) != "ok":
            wrong.append(f"the database: {found}")

        def column(query: str) -> set:
            return {row[0] for row in database.execute(query)}

        steps, chords = column("SELECT id FROM desk_mapstep"), column("SELECT id FROM harmony_chordstep")
        marks = column("SELECT name FROM desk_mark")
        for window in windows:
            told = window.told
            wrong += [f"step {s} is lost" for s in told.steps if s not in steps]
            wrong += [f"chords {c} are lost" for c in told.chords if c not in chords]
            wrong += [f"section {m} is lost" for m in told.marks if m not in marks]
            wrong += told.odd
            (level,) = database.execute("SELECT gain FROM library_track WHERE id=?", (window.track,)).fetchone()
            if told.level is not None and level not in (told.level, told.sent):
                wrong.append(f"level {told.level} is {level}")
    return wrong
