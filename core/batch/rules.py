"""Rules of a batch: how files of a kind are analysed, from a TOML file.

write = ["midi", "csv"]

[[rule]]
match = "live/*"          # compared with the performance's name; the first rule that matches is used
each = "folder"           # one performance per folder; or "file": one per file
tempo = "70-180"
meter = "3/4"
kind = "free"             # "steady": one exact tempo; "free": never; or whichever fits
guide = { kick = 2 }

[[rule]]
match = "*"
"""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any, Literal

from core.errors import InputError
from core.tempomap import Meter
from core.tempomap.limits import checked_range
from core.tracking import TrackingOptions

Each = Literal["folder", "file"]


class RulesError(InputError):
    """Rules that cannot be read, in words for the engineer."""


@dataclass(frozen=True)
class Rule:
    """How performances are analysed whose name matches ``match`` (``*`` stands for anything)."""

    match: str = "*"
    each: Each = "folder"
    options: TrackingOptions = field(default_factory=TrackingOptions)

    def options_for(self, names: Sequence[str]) -> TrackingOptions:
        """The options with guides as tracks of these names have them: by name with or without ending."""
        by_stem = {Path(n).stem.lower(): n for n in names} | {n.lower(): n for n in names}
        guides = {by_stem[g.lower()]: w for g, w in self.options.guides.items() if g.lower() in by_stem}
        o = self.options
        return TrackingOptions(o.tempo, o.meter, guides, exact_tempo=o.exact_tempo)


@dataclass(frozen=True)
class Rules:
    """``write``: names of :data:`core.batch.outputs.WRITERS`."""

    rules: tuple[Rule, ...] = (Rule(),)
    write: tuple[str, ...] = ("json", "midi", "csv")

    def of(self, name: str) -> Rule:
        """The first rule that matches a performance; a plain one where none does."""
        return next((r for r in self.rules if fnmatchcase(name.lower(), r.match.lower())), Rule())


def read(path: Path, known: Sequence[str]) -> Rules:
    """Rules from a file; ``known``: outputs that can be written. Raises :class:`RulesError` and ``OSError``."""
    try:
        data = tomllib.loads(path.read_text(encoding="utf-8"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as e:
        raise RulesError(f"“{path.name}” is not TOML that can be read: {e}.") from None
    _only(data, {"write", "rule"}, path.name)
    given = data.get("rule", [{}])
    if not isinstance(given, list) or not all(isinstance(r, dict) for r in given):
        raise RulesError(f"“{path.name}”: each rule begins with [[rule]].")
    rules = tuple(_rule(r, f"“{path.name}”, rule {k}") for k, r in enumerate(given, 1))
    write = data.get("write", list(Rules().write))
    if not isinstance(write, list) or (wrong := [w for w in write if w not in known]):
        what = f"“{wrong[0]}”" if isinstance(write, list) else "that"
        raise RulesError(f"“{path.name}”: {what} cannot be written; write some of {', '.join(known)}.")
    return Rules(rules, tuple(write))


def _rule(data: Mapping[str, Any], place: str) -> Rule:
    _only(data, {"match", "each", "tempo", "meter", "kind", "guide"}, place)
    usual = TrackingOptions()
    try:
        low, _, high = str(data.get("tempo", "")).partition("-")
        tempo = checked_range(float(low), float(high)) if "tempo" in data else usual.tempo
    except InputError as e:
        raise RulesError(f"{place}: {e}") from None
    except ValueError:
        raise RulesError(f'{place}: write a tempo range like "70-180".') from None
    try:
        meter = Meter.parse(str(data["meter"])) if "meter" in data else None
    except InputError as e:
        raise RulesError(f"{place}: {e}") from None
    try:
        guides = {str(k): float(v) for k, v in dict(data.get("guide", {})).items()}
    except (ValueError, TypeError):
        raise RulesError(f"{place}: write guides as names with a number each, such as {{ kick = 2 }}.") from None
    kind, each = data.get("kind", ""), data.get("each", "folder")
    if kind not in ("steady", "free", ""):
        raise RulesError(f'{place}: kind is "steady" or "free", or left out.')
    if each not in ("folder", "file"):
        raise RulesError(f'{place}: each is "folder" or "file".')
    exact = {"steady": True, "free": False}.get(kind)
    return Rule(str(data.get("match", "*")), each, TrackingOptions(tempo, meter, guides, exact_tempo=exact))


def _only(data: Mapping[str, Any], known: set[str], place: str) -> None:
    for name in data:
        if name not in known:
            raise RulesError(f"{place}: “{name}” is not known; what can be said is {', '.join(sorted(known))}.")
