"""Statements: what the engineer has said of a take. Each stays true in every later map until it is taken back.

They live in seconds, as the recording never moves. A pinned beat is a statement too (this beat is here, to the bit);
it lives in the map as a pin. The others say what a beat is, not exactly when: they mean the beat nearest to their time.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from core.tempomap import TempoMap

#: How far the beat that is meant may lie from where it was said to be, in beats.
_NEAR = 0.4
#: The share of a hold at either end where its own beat, or the next one, may be moved to.
_HOLD_ENDS = 0.2
#: Times that differ by less are the same, in seconds.
_SAME = 1e-6


@dataclass(frozen=True)
class BarLine:
    """A bar starts at the beat ``at`` (seconds), with ``number`` as its number where that was said."""

    at: float
    number: int | None = None


@dataclass(frozen=True)
class BarsHere:
    """From ``start`` to ``end`` (seconds) there are so many whole bars, of ``meter`` where that was said."""

    start: float
    end: float
    bars: int
    meter: str | None = None


@dataclass(frozen=True)
class MeterHere:
    """The bar that starts at ``at`` (seconds) has this meter (as :meth:`core.tempomap.Meter.parse` reads it); with
    ``only`` this bar alone was meant."""

    at: float
    meter: str
    only: bool = False


@dataclass(frozen=True)
class Hold:
    """A fermata from ``start`` to ``end`` (seconds): one held beat, with none inside."""

    start: float
    end: float

    def has_inside(self, seconds: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Which times lie inside, well away from its ends."""
        beside = _HOLD_ENDS * (self.end - self.start)
        return (seconds > self.start + beside) & (seconds < self.end - beside)


@dataclass(frozen=True)
class WithoutBeats:
    """Music without beats from ``start`` to ``end`` (seconds)."""

    start: float
    end: float


@dataclass(frozen=True)
class MusicStarts:
    """The mapped music starts at the beat ``at`` (seconds)."""

    at: float


@dataclass(frozen=True)
class MusicEnds:
    """The mapped music ends at the beat ``at`` (seconds)."""

    at: float


@dataclass(frozen=True)
class Right:
    """All from ``start`` to ``end`` (seconds) is right: locked. ``seconds``, ``bars`` and ``beats`` are the beats in it
    as they were then, their bar numbers, and their numbers in the bar."""

    start: float
    end: float
    seconds: tuple[float, ...] = ()
    bars: tuple[int, ...] = ()
    beats: tuple[int, ...] = ()

    @classmethod
    def of(cls, tempo_map: TempoMap, start: float, end: float) -> Right:
        found = tempo_map.beats()
        inside = (found.seconds >= start - _SAME) & (found.seconds <= end + _SAME)
        rows = (found.seconds[inside], found.bar[inside], found.beat[inside])
        return cls(start, end, *(tuple(row.tolist()) for row in rows))


Statement: TypeAlias = BarLine | BarsHere | MeterHere | Hold | WithoutBeats | MusicStarts | MusicEnds | Right


def beat_at(tempo_map: TempoMap, seconds: float) -> int | None:
    """The felt beat (index) that is meant by a time; None where none is near."""
    at = float(tempo_map.beat_index_at(seconds))
    beat = round(at)
    return beat if abs(at - beat) <= _NEAR else None


def line_at(tempo_map: TempoMap, seconds: float) -> int | None:
    """The bar (number) whose line is meant by a time; None where no bar line is near."""
    beat = beat_at(tempo_map, seconds)
    if beat is None:
        return None
    found = tempo_map.beats(beat, beat)
    return int(found.bar[0]) if found.beat[0] == 1 else None


def holds(statement: Statement, tempo_map: TempoMap) -> bool:
    """Whether a statement is true of a map."""
    match statement:
        case BarLine(at, number):
            bar = line_at(tempo_map, at)
            return bar is not None and number in (None, bar)
        case BarsHere(start, end, bars, meter):
            first, last = line_at(tempo_map, start), line_at(tempo_map, end)
            if first is None or last is None or last - first != bars:
                return False
            return meter is None or all(tempo_map.meters.meter_at(b).felt == meter for b in range(first, last))
        case MeterHere(at, meter):
            bar = line_at(tempo_map, at)
            return bar is not None and tempo_map.meters.meter_at(bar).felt == meter
        case MusicStarts(at):
            return beat_at(tempo_map, at) == int(tempo_map.beats().index[0])
        case MusicEnds(at):
            return beat_at(tempo_map, at) == int(tempo_map.beats().index[-1])
        case Right():
            now = Right.of(tempo_map, statement.start, statement.end)
            return (
                len(now.seconds) == len(statement.seconds)
                and bool((np.abs(np.subtract(now.seconds, statement.seconds)) < _SAME).all())
                and (now.bars, now.beats) == (statement.bars, statement.beats)
            )
        case Hold():
            return not statement.has_inside(tempo_map.beats().seconds).any()
        case WithoutBeats():
            return True


def begins(statement: Statement) -> float:
    """Where a statement stands in the recording, in seconds."""
    return statement.at if isinstance(statement, BarLine | MeterHere | MusicStarts | MusicEnds) else statement.start


def words(statement: Statement, tempo_map: TempoMap | None = None) -> str:
    """A statement as a short sentence; with a map places are bars, else minutes and seconds."""

    def place(seconds: float) -> str:
        if tempo_map is None:
            return f"{int(seconds // 60)}:{seconds % 60:06.3f}"
        found = tempo_map.beats(*(2 * (round(float(tempo_map.beat_index_at(seconds))),)))
        return f"bar {found.bar[0]}" + (f" beat {found.beat[0]}" if found.beat[0] != 1 else "")

    def stretch(start: float, end: float) -> str:
        if tempo_map is None:
            return f"{place(start)} to {place(end)}"
        first, last = (int(tempo_map.meters.bars_at(q)) for q in tempo_map.quarters_at([start, end - 1e-3]))
        return f"bar {first}" if first == last else f"bars {first} to {last}"

    match statement:
        case BarLine(at, None):
            return f"Bar line at {place(at)}"
        case BarLine(at, number):
            return f"Bar {number} starts at {at:.2f} s"
        case BarsHere(start, end, bars, meter):
            of = f" of {meter}" if meter else ""
            return f"{bars} bar{'s' * (bars != 1)}{of}: {stretch(start, end)}"
        case MeterHere(at, meter, only):
            return f"{meter} {'in' if only else 'from'} {place(at)}{' only' if only else ''}"
        case MusicStarts(at):
            return f"The mapped music starts at {place(at)}"
        case MusicEnds(at):
            return f"The mapped music ends at {place(at)}"
        case Hold(start, end):
            return f"A held beat in {stretch(start, end)}"
        case WithoutBeats(start, end):
            return f"No beats in {stretch(start, end)}"
        case Right(start, end):
            return f"Locked: {stretch(start, end)}"


def replaces(new: Statement, old: Statement, tempo_map: TempoMap) -> bool:
    """Whether a new statement is the engineer's new word on the same thing: the same beat, bar or stretch."""
    if type(new) is not type(old):
        return False
    if isinstance(new, MusicStarts | MusicEnds):
        return True
    if isinstance(new, BarLine | MeterHere) and isinstance(old, BarLine | MeterHere):
        at, before = (float(x) for x in tempo_map.beat_index_at([new.at, old.at]))
        if isinstance(new, BarLine) and isinstance(old, BarLine) and new.number is not None:
            return abs(at - before) <= _NEAR or new.number == old.number  # no bar starts at two places
        return abs(at - before) <= _NEAR
    if isinstance(new, BarsHere | Hold) and isinstance(old, BarsHere | Hold):
        return new.start < old.end - _SAME and old.start < new.end - _SAME
    return new == old
