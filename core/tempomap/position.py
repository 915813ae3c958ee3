"""Bar.beat.tick, the way an engineer reads a place in the music."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from core.tempomap.meter import EPSILON
from core.tempomap.tempomap import TempoMap

#: Ticks a quarter, for positions and for written MIDI files; 960 divides by 2, 3, 5 and their products.
TICKS = 960


@dataclass(frozen=True, order=True)
class Position:
    """``beat`` counts felt beats from 1; ``tick`` is the rest in ticks of a 960th quarter."""

    bar: int
    beat: int
    tick: int = 0

    def __str__(self) -> str:
        return f"{self.bar}.{self.beat}.{self.tick:03d}"


def position_at(tempo_map: TempoMap, seconds: float) -> Position:
    """The position at a time, to the nearest tick."""
    meters = tempo_map.meters
    # rounded to a tick first, so that a time just before a bar line reads as that bar line
    quarters = round(float(tempo_map.quarters_at(seconds)) * TICKS) / TICKS
    bar = int(meters.bars_at(quarters))
    into = quarters - float(meters.bar_quarters(bar))
    offsets = meters.meter_at(bar).beat_offsets
    beat = int(np.searchsorted(offsets, into + EPSILON, side="right"))
    return Position(bar, beat, round((into - offsets[beat - 1]) * TICKS))


def words_at(tempo_map: TempoMap, beat: int) -> str:
    """A felt beat (index from bar 1) in words: "bar 23", or "bar 23 beat 2"."""
    found = tempo_map.beats(beat, beat)
    return f"bar {found.bar[0]}" if found.beat[0] == 1 else f"bar {found.bar[0]} beat {found.beat[0]}"
