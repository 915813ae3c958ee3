"""Where the tracks of a result lie when they were written."""

from __future__ import annotations

from pathlib import Path

from studio.library.models import Session, Track


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


def names_of(tracks: dict[int, Track]) -> dict[int, str]:
    """A file name for each track; tracks of one name are numbered."""
    names: dict[int, str] = {}
    for pk, track in tracks.items():
        stem = "".join(c if c.isalnum() or c in " -_" else "_" for c in Path(track.name).stem).strip() or "track"
        name, n = f"{stem}.wav", 2
        while name in names.values():
            name, n = f"{stem} {n}.wav", n + 1
        names[pk] = name
    return names
