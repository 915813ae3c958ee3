"""Performances in which the meter or the tempo changes at a bar line, made from performances that keep both: bars lose
their last beats, or all goes quicker or slower."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from training.compose import Note, Performance

Floats = NDArray[np.float64]
Rng = np.random.Generator

#: Fewest bars before a change, in what is changed, and behind it.
_LEAST_BARS = 6
#: How much quicker a new tempo is, or slower: least and most, as natural logarithms.
_QUICKER = (np.log(1.12), np.log(2.2))
#: A note may start so many seconds before its beat.
_EARLY = 0.06
_SHORTEST_NOTE = 0.05


def with_a_change(rng: Rng, made: Performance) -> tuple[Performance, str]:
    """Another meter or another tempo from some bar line on, for a stretch or to the end, and which of both; the
    performance as it was where it is too short for that."""
    downs = np.append(np.flatnonzero(made.first), len(made.beats))
    bars = len(downs) - 1
    if bars < 2 * _LEAST_BARS:
        return made, "no change"
    first = int(rng.integers(_LEAST_BARS, bars - _LEAST_BARS + 1))
    last = bars
    if rng.random() < 0.5 and first + 2 * _LEAST_BARS <= bars:
        last = int(rng.integers(first + _LEAST_BARS, bars - _LEAST_BARS + 1))
    downs, meter = downs[first : last + 1], rng.random() < 0.5 and np.median(np.diff(downs)) > 2
    if meter:
        return _with_new_meter(rng, made, downs), "new meter"
    return _with_new_tempo(rng, made, downs), "new tempo"


def _with_new_meter(rng: Rng, made: Performance, downs: NDArray[np.int64]) -> Performance:
    """All bars between the bar lines ``downs`` lack their last beat, or the last two of five and more."""
    gone = np.zeros(len(made.beats), dtype=bool)
    fewer = int(rng.integers(1, 3)) if np.median(np.diff(downs)) > 4 else 1
    for start, end in zip(downs[:-1], downs[1:], strict=True):
        gone[max(start + 1, end - fewer) : end] = True
    edges = np.append(made.beats, 2 * made.beats[-1] - made.beats[-2])
    cut = np.concatenate([[0.0], np.cumsum(np.where(gone, np.diff(edges), 0.0))])

    def is_cut(note: Note) -> bool:
        beat = int(np.searchsorted(edges, note.start + _EARLY, side="right")) - 1
        return 0 <= beat < len(gone) and bool(gone[beat])

    def earlier(seconds: float) -> float:
        return seconds - float(np.interp(seconds, edges, cut))

    tracks = [(name, program, [n for n in notes if not is_cut(n)]) for name, program, notes in made.tracks]
    return _played(tracks, earlier, made.beats[~gone], made.first[~gone])


def _with_new_tempo(rng: Rng, made: Performance, downs: NDArray[np.int64]) -> Performance:
    """All between the bar lines ``downs`` is quicker or slower."""
    edges = np.append(made.beats, 2 * made.beats[-1] - made.beats[-2])
    start, end = edges[downs[0]], edges[downs[-1]]
    longer = float(np.exp(rng.uniform(*_QUICKER) * rng.choice([-1, 1])))

    def other(seconds: float) -> float:
        inside = float(np.clip(seconds, start, end)) - start
        return seconds + inside * (longer - 1)

    return _played(made.tracks, other, made.beats, made.first)


def _played(
    tracks: list[tuple[str, int, list[Note]]],
    moved: Callable[[float], float],
    beats: Floats,
    first: NDArray[np.bool_],
) -> Performance:
    """The notes and beats at other times."""
    out = []
    for name, program, notes in tracks:
        times = [(moved(n.start), moved(n.end), n) for n in notes]
        own = [Note(a, max(a + _SHORTEST_NOTE, b), n.pitch, n.velocity) for a, b, n in times]
        out += [(name, program, own)] if own else []
    sounding = [n for _, _, notes in out for n in notes]
    lead, over = min(n.start for n in sounding), max(n.end for n in sounding)
    return Performance(out, np.array([moved(t) for t in beats.tolist()]), first, float(lead), float(over))
