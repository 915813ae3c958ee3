"""What listening found out, as a file: evidence and attacks of one track.

A file carries the version of what is listened for; one of another version is not read, and its track is listened to
again.
"""

from __future__ import annotations

import hashlib
import zipfile
from dataclasses import dataclass, fields
from pathlib import Path

import numpy as np

from core.listening.attacks import Attacks
from core.listening.spectrum import Evidence

#: Goes up whenever evidence or attacks of the same file would come out otherwise.
VERSION = 5


@dataclass(frozen=True)
class Kept:
    """``seconds``: length of the track; ``remarks``: sentences for the engineer."""

    evidence: Evidence
    attacks: Attacks
    seconds: float = 0.0
    remarks: tuple[str, ...] = ()


def write(path: Path, kept: Kept) -> None:
    """Write ``path`` whole or not at all."""
    partial = path.with_suffix(".partial")
    with partial.open("wb") as f:
        np.savez(
            f,
            version=VERSION,
            length=kept.seconds,
            remarks=np.array(kept.remarks, dtype=np.str_),
            **vars(kept.evidence),
            **vars(kept.attacks),
        )
    partial.replace(path)


def read(path: Path) -> Kept | None:
    """What ``path`` holds; None where it is missing, damaged, or of another version."""
    try:
        with np.load(path) as d:
            if "version" not in d.files or int(d["version"]) != VERSION:
                return None
            evidence = Evidence(**{f.name: d[f.name] for f in fields(Evidence)})
            attacks = Attacks(**{f.name: d[f.name] for f in fields(Attacks)})
            return Kept(evidence, attacks, float(d["length"]), tuple(d["remarks"].tolist()))
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
