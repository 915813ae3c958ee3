"""Bar.beat.tick, the way an engineer reads a place in the music."""

from __future__ import annotations

import re
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

    @classmethod
    def parse(cls, text: str) -> Position:
        """Read ``23``, ``23.2`` or ``23.2.480``. Raises ``ValueError``."""
        match = re.fullmatch(r"\s*(-?\d+)(?:\.(\d+))?(?:\.(\d+))?\s*", text)
        if not match:
            raise ValueError(f"“{text}” is not a place; write it like 23, 23.2 or 23.2.480.")
        bar, beat, tick = match.groups()
        return cls(int(bar), int(beat or 1), int(tick or 0))


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


def seconds_of(tempo_map: TempoMap, position: Position) -> float:
    """The time of a position. Raises ``ValueError`` where the bar has no such beat."""
    meter = tempo_map.meters.meter_at(position.bar)
    if not 1 <= position.beat <= meter.beats:
        raise ValueError(f"Bar {position.bar} has {meter.beats} beats; there is no beat {position.beat}.")
    quarters = tempo_map.meters.bar_quarters(position.bar) + meter.beat_offsets[position.beat - 1]
    return float(tempo_map.seconds_at(quarters + position.tick / TICKS))


def words_at(tempo_map: TempoMap, beat: int) -> str:
    """A felt beat (index from bar 1) in words: "bar 23", or "bar 23 beat 2"."""
    found = tempo_map.beats(beat, beat)
    return f"bar {found.bar[0]}" if found.beat[0] == 1 else f"bar {found.bar[0]} beat {found.beat[0]}"
