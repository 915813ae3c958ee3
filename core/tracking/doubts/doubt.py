"""A doubt: a place where the map may be wrong, why, and what could be done about it.

Each remedy is a command (:mod:`core.document.commands`), ready to be carried out by :mod:`core.editing`, which tries it
before it is offered.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np

from core.document.commands import Command
from core.tempomap import TempoMap

#: Severity: 1 look when there is time, 2 listen to it, 3 probably wrong.
LOOK, LISTEN, WRONG = 1, 2, 3
#: Kinds of doubts about the whole take: its tempo, its off-beats for beats, its bar lines, the beats a bar has, its
#: distance to the attacks.
WHOLE = ("level", "phase", "bar lines", "bar length", "late")


@dataclass(frozen=True)
class Remedy:
    """What could be done: words for a key, and the command that does it."""

    words: str
    command: Command


@dataclass(frozen=True)
class Doubt:
    """``kind``: weak, jump, no-attack, beside, meter, new meter, downbeat, end, hold, pause, or about the whole take
    one of :data:`WHOLE`. ``start`` and ``end`` in seconds; ``beat``: felt-beat index of its first beat; ``reason`` is a
    sentence; ``remedies`` fit the recording better than the map as it is, ``choices`` do not, but may be meant all the
    same: only who knows the music can tell."""

    kind: str
    start: float
    end: float
    bar: int
    beat: int
    severity: int
    reason: str
    remedies: list[Remedy] = field(default_factory=list)
    choices: list[Remedy] = field(default_factory=list)

    def to_json(self) -> dict[str, Any]:
        return asdict(self)


def about_all(kind: str, tempo_map: TempoMap, severity: int, words: str, remedies: list[Remedy]) -> Doubt:
    """A doubt about the whole take, with half a beat on either side."""
    beats = tempo_map.beats()
    half = 0.5 * float(np.median(np.diff(beats.seconds)))
    start, end = max(0.0, float(beats.seconds[0]) - half), float(beats.seconds[-1]) + half
    return Doubt(kind, start, end, int(beats.bar[0]), int(beats.index[0]), severity, words, remedies)


def beats_later(by: int) -> str:
    """In words: one beat later, two beats later."""
    return f"{('one', 'two', 'three', 'four', 'five', 'six')[by - 1]} beat{'s' * (by > 1)} later"
