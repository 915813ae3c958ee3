"""Notes, performed (in seconds) and in musical position (bar and quarters), and the way from one to the other."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from core.tempomap import Meters, TempoMap

#: Notes that a performance or a part holds at most.
MOST_NOTES = 200_000
#: The shortest length of a note, in quarters: a part stays playable whatever is done to its map.
SHORTEST = 1 / 64


@dataclass(frozen=True)
class Note:
    """A performed note: ``start`` and ``end`` in seconds, MIDI ``pitch`` and ``velocity``, ``channel`` from 0."""

    start: float
    end: float
    pitch: int
    velocity: int
    channel: int = 0


@dataclass(frozen=True)
class ScoreNote:
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


def to_seconds(tempo_map: TempoMap, notes: Sequence[ScoreNote]) -> list[Note]:
    """Notes at musical positions as they sound under a tempo map, in their order."""
    if not notes:
        return []
    start = tempo_map.meters.bar_quarters([n.bar for n in notes]) + [n.offset for n in notes]
    starts = tempo_map.seconds_at(start).tolist()
    ends = tempo_map.seconds_at(start + [n.length for n in notes]).tolist()
    return [Note(a, b, n.pitch, n.velocity, n.channel) for a, b, n in zip(starts, ends, notes, strict=True)]


def to_score(tempo_map: TempoMap, notes: Sequence[Note]) -> list[ScoreNote]:
    """Musical positions of performed notes; inverse of :func:`to_seconds` but for notes of no length."""
    if not notes:
        return []
    start = tempo_map.quarters_at([n.start for n in notes])
    length = np.maximum(SHORTEST, tempo_map.quarters_at([n.end for n in notes]) - start)
    bars = tempo_map.meters.bars_at(start)
    offset = np.maximum(0.0, start - tempo_map.meters.bar_quarters(bars))
    return [
        ScoreNote(b, o, d, n.pitch, n.velocity, n.channel)
        for b, o, d, n in zip(bars.tolist(), offset.tolist(), length.tolist(), notes, strict=True)
    ]


def bar_and_offset(meters: Meters, quarter: float) -> tuple[int, float]:
    """Bar and offset of a position in quarters."""
    bar = int(meters.bars_at(quarter))
    return bar, max(0.0, quarter - float(meters.bar_quarters(bar)))


def quarter_of_note(meters: Meters, note: ScoreNote) -> float:
    """Position of a note in quarters from bar 1."""
    return float(meters.bar_quarters(note.bar)) + note.offset


@dataclass(frozen=True)
class TimingDifference:
    """How far the starts of the same notes lie apart in two readings: ``mean`` and ``largest``, in milliseconds."""

    mean: float
    largest: float


def timing_difference(here: Sequence[Note], there: Sequence[Note]) -> TimingDifference:
    """Difference between two readings of the same notes. Raises ``ValueError`` where they differ in number."""
    if len(here) != len(there):
        raise ValueError("The two readings hold different notes.")
    if not here:
        return TimingDifference(0.0, 0.0)
    off = 1000 * np.abs(np.array([n.start for n in here]) - [n.start for n in there])
    return TimingDifference(float(off.mean()), float(off.max()))
