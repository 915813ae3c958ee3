"""What becomes of notes when they are played one after the other: no two strokes alike, hats that choke."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from core.instruments.sampler import Shade
from core.notes import Note

#: Keys of percussion that end each other (General MIDI 2, RP-024, table of exclusive classes; from memory).
_CHOKING = {key: group for group, keys in enumerate(((42, 44, 46), (71, 72), (73, 74), (78, 79), (80, 81)))
            for key in keys}  # fmt: skip
#: Strokes of one key go round these, so that no two neighbours are alike.
SHADES = (Shade(), Shade(-5, -0.5, -180), Shade(4, 0.4, 120), Shade(-2, -0.2, 200), Shade(6, -0.4, -90))
#: Within this a choked sound fades, seconds.
CHOKE = 0.012


class Stroke(NamedTuple):
    """A note as it is played: ``shade``, an index into :data:`SHADES`; ``cut``: where it is choked, in seconds, or
    infinity."""

    note: Note
    shade: int
    cut: float


@dataclass(frozen=True, eq=False)
class Strokes:
    """The notes of a part in the order in which they start; ``starts`` and the ``longest`` note's length in seconds."""

    strokes: tuple[Stroke, ...]
    starts: tuple[float, ...]
    longest: float


def strokes_of(notes: Sequence[Note], instrument: str) -> Strokes:
    """How notes are played by an instrument: drums choke each other."""
    ordered = sorted(notes, key=lambda n: n.start)
    count: dict[int, int] = defaultdict(int)
    cuts = [float("inf")] * len(ordered)
    if instrument == "drums":
        sounding: dict[int, int] = {}
        for k, n in enumerate(ordered):
            group = _CHOKING.get(n.pitch)
            if group is None:
                continue
            if group in sounding and n.start > ordered[sounding[group]].start:
                cuts[sounding[group]] = n.start
            sounding[group] = k
    out = []
    for n, cut in zip(ordered, cuts, strict=True):
        out.append(Stroke(n, count[n.pitch] % len(SHADES), cut))
        count[n.pitch] += 1
    starts = tuple(n.start for n in ordered)
    return Strokes(tuple(out), starts, max((n.end - n.start for n in ordered), default=0.0))
