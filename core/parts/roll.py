"""Edits of a part's notes, each a pure function from notes to notes; what it does not name stays as it is."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace

from core.errors import InputError
from core.notes import MOST_NOTES, SHORTEST, Note, ScoreNote, bar_and_offset, quarter_of_note
from core.tempomap import Meters
from core.tempomap.limits import LAST_BAR


class RollError(InputError):
    """An edit of notes that cannot be, in words for the engineer."""


def add(notes: Sequence[ScoreNote], note: ScoreNote) -> list[ScoreNote]:
    """Raises :class:`RollError` where a note cannot be."""
    _validate(note)
    return [*notes, note]


def remove(notes: Sequence[ScoreNote], chosen: Collection[int]) -> list[ScoreNote]:
    return [n for i, n in enumerate(notes) if i not in chosen]


def move(
    notes: Sequence[ScoreNote], meters: Meters, chosen: Collection[int], quarters: float, semitones: int = 0
) -> list[ScoreNote]:
    """Chosen notes ``quarters`` later (negative: earlier) and ``semitones`` higher. Raises :class:`RollError`."""
    if max(chosen, default=-1) >= len(notes):
        raise RollError("The part has no such note.")
    out = list(notes)
    for i in chosen:
        n = notes[i]
        bar, offset = bar_and_offset(meters, quarter_of_note(meters, n) + quarters) if quarters else (n.bar, n.offset)
        out[i] = replace(n, bar=bar, offset=offset, pitch=n.pitch + semitones)
        _validate(out[i])
    return out


def lengthen(notes: Sequence[ScoreNote], chosen: Collection[int], quarters: float) -> list[ScoreNote]:
    """Chosen notes ``quarters`` long."""
    return [replace(n, length=max(SHORTEST, quarters)) if i in chosen else n for i, n in enumerate(notes)]


def loudness(notes: Sequence[ScoreNote], chosen: Collection[int], velocity: int) -> list[ScoreNote]:
    return [replace(n, velocity=min(127, max(1, velocity))) if i in chosen else n for i, n in enumerate(notes)]


def repeat(notes: Sequence[ScoreNote], first: int, last: int, times: int) -> list[ScoreNote]:
    """The notes of bars ``first`` to ``last`` again, ``times`` times right after them, in place of what is there."""
    count = last - first + 1
    if count < 1 or not 1 <= times <= 1000:
        raise RollError("Bars are repeated 1 to 1000 times, from a first to a later one.")
    model = [n for n in notes if first <= n.bar <= last]
    kept = [n for n in notes if not last < n.bar <= last + times * count]
    return kept + [replace(n, bar=n.bar + k * count) for k in range(1, times + 1) for n in model]


def _validate(note: ScoreNote) -> None:
    if not 0 <= note.pitch <= 127:
        raise RollError("There is no such pitch: MIDI notes go from 0 to 127.")
    if not 1 <= note.velocity <= 127:
        raise RollError("MIDI loudness goes from 1 to 127.")
    if not 0 < note.length <= LONGEST:
        raise RollError(f"A note needs a length, of {LONGEST} quarters at most.")
    if not (0 <= note.offset <= LONGEST and abs(note.bar) <= LAST_BAR):
        raise RollError("There is no such place in the bars.")


#: Quarters of the longest note, and of the longest way behind a bar line.
LONGEST = 4000


#: Seconds between which notes lie.
_LEAST, _MOST = -1e6, 1e6


def validate(notes: Sequence[ScoreNote] | Sequence[Note]) -> None:
    """Raises :class:`RollError` where a part's notes cannot be played, written or drawn."""
    if len(notes) > MOST_NOTES:
        raise RollError(f"A part holds {MOST_NOTES} notes at most.")
    for note in notes:
        if isinstance(note, ScoreNote):
            _validate(note)
        elif not (0 <= note.pitch <= 127 and 1 <= note.velocity <= 127 and _LEAST < note.start <= note.end < _MOST):
            raise RollError("A note of the part cannot be played.")
