"""How fine the kept map is: every beat, every n bars, the fewest points that do, a smooth or a steady stretch.

All keep the points outside the stretch and every pin, to the bit. ``first`` and ``last`` are felt-beat
indices; None means the map's own ends.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.tempomap.edits import EditError, pins_of, with_every_beat
from core.tempomap.meter import EPSILON, Floats
from core.tempomap.tempomap import TempoMap


def steady(tempo_map: TempoMap, first: int | None = None, last: int | None = None) -> TempoMap:
    """One tempo from ``first`` to ``last``; with pins between, one from pin to pin."""
    full, here, fixed = _stretch(tempo_map, first, last)
    return _only(full, ~here | fixed)


def every(tempo_map: TempoMap, bars: int, first: int | None = None, last: int | None = None) -> TempoMap:
    """Points at every ``bars`` bar lines only (0: at every beat)."""
    full, here, fixed = _stretch(tempo_map, first, last)
    if bars < 1:
        return full
    bar = full.meters.bars_at(full.quarters)
    on_line = np.abs(full.meters.bar_quarters(bar) - full.quarters) < EPSILON
    return _only(full, ~here | fixed | (on_line & ((bar - 1) % bars == 0)))


def thin(tempo_map: TempoMap, within: float, first: int | None = None, last: int | None = None) -> TempoMap:
    """The fewest of the beats' points that keep every beat within ``within`` seconds of where it is now.

    Exact: the shortest path over all straight lines that stay inside every beat's tolerance; the set of slopes
    that do is narrowed point by point (the cone of Imai and Iri 1986, for lines that start on a point).
    """
    full, here, fixed = _stretch(tempo_map, first, last)
    t, q = full.seconds, full.quarters
    must = np.flatnonzero(~here | fixed)
    keep = ~here | fixed
    for a, b in zip(must, must[1:], strict=False):
        if b - a > 1:
            keep[a + _fewest(q[a : b + 1], t[a : b + 1], within)] = True
    return _only(full, keep)


def _fewest(q: Floats, t: Floats, within: float) -> NDArray[Any]:
    """Places of the fewest points from the first to the last such that lines between them pass all others by
    less than ``within``; of equally few the closer fit."""
    n = len(t)
    points = np.full(n, n + 1)
    worst = np.full(n, np.inf)
    backpointers = np.zeros(n, dtype=np.int64)
    points[0], worst[0] = 0, 0.0
    for i in range(n - 1):
        if points[i] > n:
            continue
        low, high = -np.inf, np.inf
        for j in range(i + 1, n):
            run = q[j] - q[i]
            slope = (t[j] - t[i]) / run
            if low - 1e-12 <= slope <= high + 1e-12:
                line = t[i] + slope * (q[i : j + 1] - q[i])
                off = max(worst[i], float(np.abs(line - t[i : j + 1]).max()))
                if (points[i] + 1, off) < (points[j], worst[j]):
                    points[j], worst[j], backpointers[j] = points[i] + 1, off, i
            low, high = max(low, slope - within / run), min(high, slope + within / run)
            if low > high:
                break
    out = [n - 1]
    while out[-1]:
        out.append(int(backpointers[out[-1]]))
    return np.array(out[::-1])


def smooth(tempo_map: TempoMap, first: int | None = None, last: int | None = None, beats: int = 4) -> TempoMap:
    """Take out the wander from beat to beat: gaps become their mean over ``beats`` neighbours.

    Both ends of the stretch and its pins stay, so that nothing outside moves.
    """
    full, here, fixed = _stretch(tempo_map, first, last)
    t, q = full.seconds.copy(), full.quarters
    must = np.flatnonzero(~here | fixed)
    for a, b in zip(must, must[1:], strict=False):
        if b - a < 3:
            continue
        pace = np.diff(full.seconds[a : b + 1]) / np.diff(q[a : b + 1])
        half = max(1, beats // 2)
        padded = np.concatenate([np.repeat(pace[0], half), pace, np.repeat(pace[-1], half)])
        even = np.convolve(padded, np.ones(2 * half + 1) / (2 * half + 1), mode="valid")
        gaps = even * np.diff(q[a : b + 1])
        gaps *= (t[b] - t[a]) / gaps.sum()
        t[a + 1 : b] = t[a] + np.cumsum(gaps)[:-1]
    return full.with_points(t, q, pins_of(full))


def farthest(tempo_map: TempoMap, kept: TempoMap) -> float:
    """By how much a coarser map misses the beats of the finer one at most, in seconds."""
    beats = tempo_map.beats()
    return float(np.abs(kept.seconds_at(beats.quarters) - beats.seconds).max())


def _stretch(tempo_map: TempoMap, first: int | None, last: int | None) -> tuple[TempoMap, NDArray[Any], NDArray[Any]]:
    """The map with a point on each beat; which points lie inside the stretch; which of those are ends or pins."""
    full = with_every_beat(tempo_map, first, last)
    index = full.meters.beat_of_quarters(full.quarters)
    a = index[0] if first is None else float(first)
    b = index[-1] if last is None else float(last)
    here = (index >= a - EPSILON) & (index <= b + EPSILON)
    if here.sum() < 2:
        raise EditError("Choose a stretch of at least two beats inside the mapped music.")
    places = np.flatnonzero(here)
    fixed = pins_of(full).copy()
    fixed[[places[0], places[-1]]] = True
    return full, here, fixed


def _only(full: TempoMap, keep: NDArray[Any]) -> TempoMap:
    return full.with_points(full.seconds[keep], full.quarters[keep], pins_of(full)[keep])
