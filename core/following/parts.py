"""Parts: notes that ride the bars, or keep the clock, and the way from one to the other."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from core.formats.smf import Note
from core.tempomap import TempoMap

#: The shortest a note becomes, in quarters and in seconds: a part stays playable whatever is done to its map.
SHORTEST = 1 / 64


@dataclass(frozen=True)
class Placed:
    """A note in musical position: ``offset`` quarters behind the line of ``bar``, ``length`` quarters long.

    Bar and offset rather than one count of quarters, so that a note of bar 20 stays in bar 20 when an earlier bar
    gains or loses a beat.
    """

    bar: int
    offset: float
    length: float
    pitch: int
    velocity: int
    channel: int = 0


def sounding(tempo_map: TempoMap, notes: Sequence[Placed]) -> list[Note]:
    """Where notes that ride the bars sound: the map's own conversion of their positions, in their order."""
    if not notes:
        return []
    start = tempo_map.meters.bar_quarters([n.bar for n in notes]) + [n.offset for n in notes]
    starts = tempo_map.seconds_at(start).tolist()
    ends = tempo_map.seconds_at(start + [n.length for n in notes]).tolist()
    return [Note(a, b, n.pitch, n.velocity, n.channel) for a, b, n in zip(starts, ends, notes, strict=True)]


def placed(tempo_map: TempoMap, notes: Sequence[Note]) -> list[Placed]:
    """The musical positions of performed notes; inverse of :func:`sounding` but for notes of no length."""
    if not notes:
        return []
    start = tempo_map.quarters_at([n.start for n in notes])
    length = np.maximum(SHORTEST, tempo_map.quarters_at([n.end for n in notes]) - start)
    bars = tempo_map.meters.bars_at(start)
    offset = np.maximum(0.0, start - tempo_map.meters.bar_quarters(bars))
    return [
        Placed(b, o, d, n.pitch, n.velocity, n.channel)
        for b, o, d, n in zip(bars.tolist(), offset.tolist(), length.tolist(), notes, strict=True)
    ]


@dataclass(frozen=True)
class Apart:
    """How far one reading of a part is from another, in ms: the mean and the largest of the notes' distances."""

    mean: float
    largest: float


def apart(here: Sequence[Note], there: Sequence[Note]) -> Apart:
    """The distance of two readings of the same notes. Raises ``ValueError`` where they are not as many."""
    if len(here) != len(there):
        raise ValueError("The two readings hold different notes.")
    if not here:
        return Apart(0.0, 0.0)
    off = 1000 * np.abs(np.array([n.start for n in here]) - [n.start for n in there])
    return Apart(float(off.mean()), float(off.max()))
