"""Edits of a part's notes, each a pure function from notes to notes; what it does not name stays as it is."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace

from core.following.parts import SHORTEST, Placed
from core.tempomap import Meters


class RollError(ValueError):
    """An edit of notes that cannot be, in words for the engineer."""


def at_quarter(meters: Meters, quarter: float) -> tuple[int, float]:
    """Bar and offset of a position in quarters."""
    bar = int(meters.bars_at(quarter))
    return bar, max(0.0, quarter - float(meters.bar_quarters(bar)))


def quarter_of(meters: Meters, note: Placed) -> float:
    return float(meters.bar_quarters(note.bar)) + note.offset


def add(notes: Sequence[Placed], note: Placed) -> list[Placed]:
    """Raises :class:`RollError` where a note cannot be."""
    _check(note)
    return [*notes, note]


def remove(notes: Sequence[Placed], chosen: Collection[int]) -> list[Placed]:
    return [n for i, n in enumerate(notes) if i not in chosen]


def move(
    notes: Sequence[Placed], meters: Meters, chosen: Collection[int], quarters: float, semitones: int = 0
) -> list[Placed]:
    """Chosen notes ``quarters`` later (negative: earlier) and ``semitones`` higher."""
    out = list(notes)
    for i in chosen:
        n = notes[i]
        bar, offset = at_quarter(meters, quarter_of(meters, n) + quarters) if quarters else (n.bar, n.offset)
        out[i] = replace(n, bar=bar, offset=offset, pitch=n.pitch + semitones)
        _check(out[i])
    return out


def lengthen(notes: Sequence[Placed], chosen: Collection[int], quarters: float) -> list[Placed]:
    """Chosen notes ``quarters`` long."""
    return [replace(n, length=max(SHORTEST, quarters)) if i in chosen else n for i, n in enumerate(notes)]


def loudness(notes: Sequence[Placed], chosen: Collection[int], velocity: int) -> list[Placed]:
    return [replace(n, velocity=min(127, max(1, velocity))) if i in chosen else n for i, n in enumerate(notes)]


def repeat(notes: Sequence[Placed], first: int, last: int, times: int) -> list[Placed]:
    """The notes of bars ``first`` to ``last`` again, ``times`` times right after them, in place of what is there."""
    count = last - first + 1
    if count < 1 or not 1 <= times <= 1000:
        raise RollError("Bars are repeated 1 to 1000 times, from a first to a later one.")
    model = [n for n in notes if first <= n.bar <= last]
    kept = [n for n in notes if not last < n.bar <= last + times * count]
    return kept + [replace(n, bar=n.bar + k * count) for k in range(1, times + 1) for n in model]


def _check(note: Placed) -> None:
    if not 0 <= note.pitch <= 127:
        raise RollError("There is no such pitch: MIDI notes go from 0 to 127.")
    if not note.length > 0:
        raise RollError("A note needs a length.")
