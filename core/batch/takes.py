"""Performances in folders: which files belong together."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from core.batch.rules import Rule, Rules

#: The file in which a batch notes the outcome of a take; it is written last.
OUTCOME = "outcome.json"
#: Endings of files that are looked at.
ENDINGS = {".wav", ".w64", ".aif", ".aiff", ".flac", ".ogg", ".opus", ".mp3", ".mid", ".midi"}


@dataclass(frozen=True)
class Take:
    """A performance: ``name`` is its place among the given folders, ``files`` start together."""

    name: str
    files: tuple[Path, ...]
    rule: Rule

    def key(self, write: Sequence[str]) -> str:
        """What an analysis of this take depends on; another one where files or rules have changed."""
        made = hashlib.sha256(repr((self.rule, sorted(write))).encode())
        for path in self.files:
            try:
                facts = path.stat()
                made.update(f"{path}\0{facts.st_size}\0{facts.st_mtime_ns}\0".encode())
            except OSError:  # gone since it was found; its analysis says so
                made.update(f"{path}\0gone\0".encode())
        return made.hexdigest()


def find(folders: Sequence[Path], rules: Rules) -> list[Take]:
    """All performances in the given files and folders, by name, each once.

    By default, a folder of audio or MIDI files counts as one performance. With ``each = "file"``, every file in it
    counts as a performance of its own. So does any file that is named directly.
    """
    out: dict[str, Take] = {}
    for given in dict.fromkeys(folders):
        places = [(given.parent, [given])] if given.is_file() else list(_places(given))
        for place, files in places:
            inside = place.relative_to(given) if place.is_relative_to(given) else Path(place.name)
            base = given.name if len(folders) > 1 or inside == Path(".") else ""
            name = Path(base, inside).as_posix() if base or inside != Path(".") else place.name
            rule = rules.of(name)
            if given.is_file() or rule.each == "file":
                for file in files:
                    own = file.stem if given.is_file() else f"{name}/{file.stem}"
                    _add(out, own, (file,), rules.of(own) if given.is_file() else rule)
            else:
                _add(out, name, tuple(files), rule)
    return [out[name] for name in sorted(out, key=str.lower)]


def _add(out: dict[str, Take], name: str, files: tuple[Path, ...], rule: Rule) -> None:
    own, count = name, 2
    while own in out:
        own, count = f"{name} ({count})", count + 1
    out[own] = Take(own, files, rule)


def _places(folder: Path) -> Iterator[tuple[Path, list[Path]]]:
    """Folders that hold files to look at, with those files; hidden ones and what a batch wrote are passed over."""
    for root, folders, names in os.walk(folder):
        if OUTCOME in names:
            folders.clear()  # copies of tracks
            continue
        folders[:] = sorted(f for f in folders if not f.startswith("."))
        files = sorted(n for n in names if not n.startswith(".") and Path(n).suffix.lower() in ENDINGS)
        if files:
            yield Path(root), [Path(root, n) for n in files]
