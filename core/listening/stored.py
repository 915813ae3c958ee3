"""Analysed tracks as files: evidence, attacks, length and remarks of one track; not its peaks.

A file carries the version of the analysis. One of another version is not read, and its track is analysed again.
"""

from __future__ import annotations

import hashlib
import zipfile
from dataclasses import fields
from pathlib import Path

import numpy as np

from core.listening.attacks import Attacks
from core.listening.spectrum import Evidence
from core.listening.track import AnalysedTrack

#: Goes up whenever evidence or attacks of the same file would come out otherwise.
VERSION = 8


def write(path: Path, track: AnalysedTrack) -> None:
    """Write ``path`` whole or not at all."""
    partial = path.with_suffix(".partial")
    with partial.open("wb") as f:
        np.savez(
            f,
            version=VERSION,
            length=track.seconds,
            remarks=np.array(track.remarks, dtype=np.str_),
            **vars(track.evidence),
            **vars(track.attacks),
        )
    partial.replace(path)


def read(path: Path, name: str) -> AnalysedTrack | None:
    """The track in ``path``, called ``name``; None where the file is missing, damaged, or of another version."""
    try:
        with np.load(path) as d:
            if "version" not in d.files or int(d["version"]) != VERSION:
                return None
            evidence = Evidence(**{f.name: d[f.name] for f in fields(Evidence)})
            attacks = Attacks(**{f.name: d[f.name] for f in fields(Attacks)})
            return AnalysedTrack(name, evidence, attacks, float(d["length"]), tuple(d["remarks"].tolist()))
    except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile):
        return None


def digest(path: Path) -> str:
    """A name for what a file holds, whatever it is called."""
    with path.open("rb") as f:
        return hashlib.file_digest(f, "blake2b").hexdigest()[:32]


def prune(folder: Path, most: int) -> None:
    """Remove the files that were written longest ago until the rest take at most ``most`` bytes."""
    total = 0
    for path in sorted(folder.glob("*.npz"), key=lambda p: p.stat().st_mtime, reverse=True):
        total += path.stat().st_size
        if total > most:
            path.unlink(missing_ok=True)
