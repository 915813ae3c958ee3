"""Where the tracks of a result lie when they were written."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path
from typing import Any

import orjson

from core.audio.naming import stem_of
from studio.library.models import Session, Track

#: What was measured of the written tracks.
REPORT = "report.json"


def report_of(session: Session, key: str) -> list[dict[str, Any]]:
    """Rows of what was measured of a result; none where its tracks are not written."""
    path = folder_of(session, key) / REPORT
    try:
        rows: list[dict[str, Any]] = orjson.loads(path.read_bytes())
    except (OSError, ValueError):
        return []
    return rows


def folder_of(session: Session, key: str) -> Path:
    """Where the tracks of the result named ``key`` are written."""
    return session.folder / "reshaped" / key


def is_ready(session: Session, key: str) -> bool:
    """Whether all tracks of a result lie there."""
    return (folder_of(session, key) / "ready").exists()


def written(session: int) -> str:
    """The key of the result whose tracks lie ready; empty where there are none."""
    ready = sorted((Session(pk=session).folder / "reshaped").glob("*/ready"))
    return ready[0].parent.name if ready else ""


def safe_name(name: str, taken: Collection[str]) -> str:
    """A WAV file's name that every system takes; numbered where it is ``taken``."""
    stem = "".join(c if c.isalnum() or c in " -_" else "_" for c in name).strip() or "track"
    free, n = f"{stem}.wav", 2
    while free in taken:
        free, n = f"{stem} {n}.wav", n + 1
    return free


def files_of(session: Session, key: str) -> list[str]:
    """Names of what was written of a result: tracks first, then what rides the map."""
    found = sorted(p.name for p in folder_of(session, key).glob("*") if p.suffix in (".wav", ".mid"))
    return sorted(found, key=lambda n: (n.endswith(".mid"), n.startswith("part ") or n == "click.wav", n))


def names_of(tracks: dict[int, Track]) -> dict[int, str]:
    """A file name for each track; tracks of one name are numbered."""
    names: dict[int, str] = {}
    for pk, track in tracks.items():
        names[pk] = safe_name(stem_of(track.name), names.values())
    return names
