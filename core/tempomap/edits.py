"""Edits: each a pure function from a map to a new one that changes nothing outside its reach.

Times are seconds, beats are felt-beat indices (0 = downbeat of bar 1). Where an edit cannot be, it
raises :class:`EditError` with a sentence for the engineer, and the map stays as it was.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.tempomap.errors import EditError as EditError
from core.tempomap.limits import CLOSEST
from core.tempomap.meter import EPSILON, Floats, Meter, MeterChange, Meters
from core.tempomap.tempomap import TempoMap

#: Beats that a map keeps at least.
_FEWEST_BEATS = 3


def move_beat(tempo_map: TempoMap, beat: int, seconds: float) -> TempoMap:
    """Put a felt beat at ``seconds`` and pin it there. Its neighbouring points stay.

    A beat between two points of a coarser map becomes a point of its own, and so do the beats beside it, so
    that nothing but this beat moves; a beat before the first or after the last point extends the map.
    """
    quarter = float(tempo_map.meters.quarters_of_beat(beat))
    inside = tempo_map.quarters[0] < quarter < tempo_map.quarters[-1]
    if inside and not (np.abs(tempo_map.quarters - quarter) <= EPSILON).any():
        tempo_map = with_every_beat(tempo_map, beat - 1, beat + 1)
    i = int(np.searchsorted(tempo_map.quarters, quarter - EPSILON))
    there = i < len(tempo_map.quarters) and abs(tempo_map.quarters[i] - quarter) <= EPSILON
    keep = np.ones(len(tempo_map.quarters), dtype=bool)
    if there:
        keep[i] = False
    t, q, pins = tempo_map.seconds[keep], tempo_map.quarters[keep], pins_of(tempo_map)[keep]
    if i > 0 and seconds - t[i - 1] < CLOSEST * min(1.0, quarter - q[i - 1]):
        raise EditError("A beat cannot pass the beat before it.")
    if i < len(t) and t[i] - seconds < CLOSEST * min(1.0, q[i] - quarter):
        raise EditError("A beat cannot pass the beat after it.")
    if seconds < min(0.0, tempo_map.seconds[i] if there else 0.0):
        raise EditError("A beat cannot lie before the recording starts.")
    return tempo_map.with_points(np.insert(t, i, seconds), np.insert(q, i, quarter), np.insert(pins, i, True))


def set_pin(tempo_map: TempoMap, beat: int, pinned: bool) -> TempoMap:
    """Fix a felt beat where it is, or let go of it. No beat moves."""
    quarter = float(tempo_map.meters.quarters_of_beat(beat))
    if not tempo_map.quarters[0] - EPSILON <= quarter <= tempo_map.quarters[-1] + EPSILON:
        raise EditError("That beat lies outside the mapped music.")
    tempo_map = with_every_beat(tempo_map, beat, beat) if pinned else tempo_map
    here = np.abs(tempo_map.quarters - quarter) <= EPSILON
    if pinned:
        return tempo_map.with_points(tempo_map.seconds, tempo_map.quarters, pins_of(tempo_map) | here)
    return tempo_map.with_points(tempo_map.seconds, tempo_map.quarters, pins_of(tempo_map) & ~here)


def insert_beat(tempo_map: TempoMap, seconds: float) -> TempoMap:
    """A new, pinned beat at ``seconds``; the beats after it are counted one higher, none moves in time."""
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    i = int(np.searchsorted(full.seconds, seconds))
    if i == 0 or i == len(index):
        raise EditError("A beat can be inserted only inside the mapped music.")
    if min(seconds - full.seconds[i - 1], full.seconds[i] - seconds) < CLOSEST:
        raise EditError("There is a beat here already.")
    # it takes the count of the next felt beat; all from there on are counted one higher
    count = np.floor(index[i - 1] + EPSILON) + 1
    later = index > count - EPSILON
    j = int(np.argmax(later)) if later.any() else len(index)
    between = np.arange(len(index)) < i  # points after the new beat but before the next felt beat cannot stay
    keep = between | (np.arange(len(index)) >= j)
    index = index + later
    return _relaid(
        full,
        np.insert(full.seconds[keep], i, seconds),
        np.insert(index[keep], i, count),
        np.insert(pins_of(full)[keep], i, True),
    )


def remove_beat(tempo_map: TempoMap, beat: int) -> TempoMap:
    """Take a felt beat out; the beats after it are counted one lower, none moves in time."""
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    if not index[0] - EPSILON <= beat <= index[-1] + EPSILON:
        raise EditError("That beat lies outside the mapped music.")
    if len(index) <= _FEWEST_BEATS:
        raise EditError("A map needs at least three beats before one can go.")
    return _without_between(full, beat - 1, beat + 1)


def hold_beat(tempo_map: TempoMap, first: int, last: int) -> TempoMap:
    """Take out the felt beats between ``first`` and ``last``, so that ``first`` is held until ``last``; the beats after
    it are counted lower, none moves in time."""
    held = _without_between(with_every_beat(tempo_map), first, last)
    if len(held.seconds) < _FEWEST_BEATS:
        raise EditError("A map needs at least three beats outside the held one.")
    return held


def _without_between(full: TempoMap, first: int, last: int) -> TempoMap:
    """A map with a point at every beat, without those between two felt beats; the later ones are counted lower."""
    index = full.meters.beat_of_quarters(full.quarters)
    later = index >= last - EPSILON
    keep = (index <= first + EPSILON) | later
    index = np.where(later, index - (last - first - 1), index)[keep]
    return _relaid(full, full.seconds[keep], index, pins_of(full)[keep])


def shift_downbeat(tempo_map: TempoMap, beats: int) -> TempoMap:
    """Move "one" by whole felt beats: with 1 the old beat 2 of bar 1 opens bar 1. No beat moves in time."""
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters) - beats
    if not index[0] - 1 - EPSILON <= 0 < index[-1]:
        raise EditError("Bar 1 has to start inside the mapped music.")
    return _relaid(full, full.seconds, index, pins_of(full))


def set_meter(tempo_map: TempoMap, bar: int, meter: Meter, only: bool = False) -> TempoMap:
    """Give ``bar`` (and those after it, unless ``only``) another meter. No beat moves in time.

    Where the bar keeps its length in quarters (3/4 and 6/8), the same stretch is felt another way.
    Otherwise the felt beats that stand are counted into bars of the new meter.
    """
    meters = tempo_map.meters.with_meter(bar, meter, only)
    if tempo_map.meters.meter_at(bar).quarters == meter.quarters:
        return replace(tempo_map, meters=meters)
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    return _relaid(replace(full, meters=meters), full.seconds, index, pins_of(full))


def split_bar(tempo_map: TempoMap, beat: int) -> TempoMap:
    """Open a bar at ``beat``: its bar becomes two, counted on as before after them. No beat moves in time."""
    found = tempo_map.beats(beat, beat)
    bar, into = int(found.bar[0]), int(found.beat[0]) - 1
    if into == 0:
        raise EditError("A bar starts here already.")
    if bar < 1:
        raise EditError("What lies before bar 1 follows bar 1's meter.")
    meter = tempo_map.meters.meter_at(bar)
    parts = [_of_groups(meter.groups[:into], meter.denominator), _of_groups(meter.groups[into:], meter.denominator)]
    return _rebarred(tempo_map, bar, 1, parts)


def join_bars(tempo_map: TempoMap, bar: int) -> TempoMap:
    """Make one bar of ``bar`` and the next. No beat moves in time."""
    if bar < 1:
        raise EditError("What lies before bar 1 follows bar 1's meter.")
    a, b = tempo_map.meters.meter_at(bar), tempo_map.meters.meter_at(bar + 1)
    if a.denominator != b.denominator:
        raise EditError(f"{a} and {b} do not make one bar; give one of them the other's note value first.")
    return _rebarred(tempo_map, bar, 2, [_of_groups(a.groups + b.groups, a.denominator)])


def _of_groups(groups: tuple[int, ...], denominator: int) -> Meter:
    return Meter(sum(groups), denominator, groups)


def _rebarred(tempo_map: TempoMap, bar: int, count: int, parts: list[Meter]) -> TempoMap:
    """Bars ``bar`` to ``bar + count - 1`` become bars of the meters ``parts``, of the same length together."""
    old = tempo_map.meters
    table = {c.bar: c.meter for c in old.changes if c.bar < bar}
    table.update({bar + k: m for k, m in enumerate(parts)})
    more = len(parts) - count
    table[bar + len(parts)] = old.meter_at(bar + count)
    table.update({c.bar + more: c.meter for c in old.changes if c.bar > bar + count})
    return replace(tempo_map, meters=Meters(tuple(MeterChange(b, m) for b, m in sorted(table.items()))))


# ---- shared by several edits


def pins_of(tempo_map: TempoMap) -> NDArray[Any]:
    assert tempo_map.pins is not None
    return tempo_map.pins


def with_every_beat(tempo_map: TempoMap, first: int | None = None, last: int | None = None) -> TempoMap:
    """The same map with a point on each felt beat (from ``first`` to ``last``), so that renumbering cannot bend a
    coarser map."""
    inside = tempo_map.beats()
    ends = int(inside.index[0]), int(inside.index[-1])
    beats = tempo_map.beats(
        *(ends[k] if x is None else min(max(x, ends[0]), ends[1]) for k, x in enumerate((first, last)))
    )
    at = np.searchsorted(tempo_map.quarters, beats.quarters)
    near = [
        np.abs(tempo_map.quarters[np.clip(at + d, 0, len(tempo_map.quarters) - 1)] - beats.quarters) for d in (-1, 0)
    ]
    missing = np.minimum(*near) > EPSILON
    if not missing.any():
        return tempo_map
    q = np.concatenate([tempo_map.quarters, beats.quarters[missing]])
    t = np.concatenate([tempo_map.seconds, beats.seconds[missing]])
    pins = np.concatenate([pins_of(tempo_map), np.zeros(int(missing.sum()), dtype=bool)])
    order = np.argsort(q)
    return tempo_map.with_points(t[order], q[order], pins[order])


def _relaid(tempo_map: TempoMap, seconds: Floats, index: Floats, pins: NDArray[Any]) -> TempoMap:
    """The map with points at felt-beat indices ``index``, in its own meters."""
    return tempo_map.with_points(seconds, tempo_map.meters.quarters_of_beat(index), pins)
