"""Conform: a whole performance goes to another map, all tracks by one warp.

The target is a steady tempo, a part of the freedom that was played, or another map. The new map has the old one's bars
and meters; only their seconds change.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d

from core.errors import InputError
from core.reshaping.warp import Warp, WarpError, warped_map
from core.tempomap import TempoMap
from core.tempomap.limits import checked_tempo

Floats = NDArray[np.float64]

#: What tempo does over so many beats (standard deviation of a Gaussian) is drift of the phrase; what is quicker than
#: that is jitter from beat to beat. Two bars of four, common practice.
PHRASE_BEATS = 8.0


@dataclass(frozen=True)
class Conformed:
    """``warp`` brings the recording to the new map ``map``."""

    warp: Warp
    map: TempoMap


def steady_bpm(tempo_map: TempoMap) -> float:
    """The steady tempo at which the mapped music is as long as it was played, in beats as bar 1 is felt."""
    quarters = float(tempo_map.quarters[-1] - tempo_map.quarters[0])
    seconds = float(tempo_map.seconds[-1] - tempo_map.seconds[0])
    return 60 * quarters / seconds / _quarters_a_beat(tempo_map)


def steady(
    tempo_map: TempoMap, bpm: float | None = None, keep_seconds: Sequence[tuple[float, float]] = ()
) -> Conformed:
    """One tempo from the first beat to the last: ``bpm`` felt beats a minute, or the take's own average.

    ``keep_seconds``: stretches of the recording (holds, music without beats) that keep their own lengths.
    Raises :class:`core.errors.InputError` on a tempo that nobody plays.
    """
    if bpm is not None:
        checked_tempo(bpm)
    quarters, seconds = _anchors(tempo_map, keep_seconds)
    kept = _kept(seconds, keep_seconds)
    lengths, steps = np.diff(seconds), np.diff(quarters)
    if bpm is None:
        free = lengths[~kept].sum()
        pace = free / max(1e-9, steps[~kept].sum())
    else:
        pace = 60 / (bpm * _quarters_a_beat(tempo_map))
    return _conformed(tempo_map, quarters, seconds, np.where(kept, lengths, steps * pace))


def with_freedom(
    tempo_map: TempoMap, drift: float, jitter: float, keep_seconds: Sequence[tuple[float, float]] = ()
) -> Conformed:
    """A share of the freedom that was played: 0 is steady at the take's average, 1 as played.

    ``drift``: of what the tempo does over a phrase, such as a rallentando; ``jitter``: of what it does from beat to
    beat. The take as a whole lasts as long as before. Raises :class:`core.errors.InputError`.
    """
    if not (0 <= drift <= 1 and 0 <= jitter <= 1):
        raise InputError("What is kept of the freedom lies between 0 and 100 percent.")
    if drift == jitter == 1:
        return _conformed(tempo_map, *_as_played(tempo_map))
    quarters, seconds = _anchors(tempo_map, keep_seconds)
    kept = _kept(seconds, keep_seconds)
    lengths, steps = np.diff(seconds), np.diff(quarters)
    log_pace = np.log(lengths / steps)
    free = ~kept
    if not free.any():
        return _conformed(tempo_map, *_as_played(tempo_map))
    mean = float(np.log(lengths[free].sum() / steps[free].sum()))
    # kept stretches are no tempo: the phrase goes on over them
    filled = np.interp(np.arange(len(log_pace)), np.flatnonzero(free), log_pace[free])
    phrase = gaussian_filter1d(filled, PHRASE_BEATS, mode="nearest")
    new = steps * np.exp(mean + drift * (phrase - mean) + jitter * (log_pace - phrase))
    new[free] *= lengths[free].sum() / new[free].sum()
    return _conformed(tempo_map, quarters, seconds, np.where(kept, lengths, new))


def to_map(
    tempo_map: TempoMap,
    other: TempoMap,
    bars_later: int = 0,
    first: int | None = None,
    last: int | None = None,
) -> Conformed:
    """Bar by bar to where another map has its bars: bar ``b`` goes to the other's bar ``b + bars_later``.

    ``first``, ``last``: the bars that are conformed, last inclusive; by default all that both maps have. What lies
    before and behind keeps its own pace. Within a bar everything keeps its share of the bar.
    Raises :class:`core.reshaping.warp.WarpError` where the maps share no bar.
    """
    source, targets = shared_beats(tempo_map, other, bars_later, first, last)
    warp = _from_zero(Warp(source, targets))
    return Conformed(warp, warped_map(tempo_map, warp))


def shared_beats(
    tempo_map: TempoMap, other: TempoMap, bars_later: int = 0, first: int | None = None, last: int | None = None
) -> tuple[Floats, Floats]:
    """Seconds in both maps of the beats of those bars that both have; parameters as in :func:`to_map`.

    Raises :class:`core.reshaping.warp.WarpError` where the maps share no bar.
    """
    mine, others = tempo_map.bar_range, other.bar_range
    first = max(mine[0] if first is None else first, others[0] - bars_later, mine[0])
    last = min(mine[1] if last is None else last, others[1] - bars_later, mine[1])
    if first > last:
        raise WarpError(
            f"The other map has bars {others[0]} to {others[1]}, this one {mine[0]} to {mine[1]}: none match."
        )
    found = tempo_map.beats()
    inside = (found.bar >= first) & (found.bar <= last)
    quarters = np.append(found.quarters[inside], tempo_map.meters.bar_quarters(last + 1))
    quarters = quarters[quarters <= tempo_map.quarters[-1] + 1e-6]
    bars = tempo_map.meters.bars_at(quarters)
    lines, ends = tempo_map.meters.bar_quarters(bars), tempo_map.meters.bar_quarters(bars + 1)
    share = (quarters - lines) / (ends - lines)
    there, there_ends = other.meters.bar_quarters(bars + bars_later), other.meters.bar_quarters(bars + bars_later + 1)
    targets = other.seconds_at(there + share * (there_ends - there))
    return tempo_map.seconds_at(quarters), targets


def _quarters_a_beat(tempo_map: TempoMap) -> float:
    meter = tempo_map.meters.meter_at(1)
    return meter.quarters / meter.beats


def _anchors(tempo_map: TempoMap, keep_seconds: Sequence[tuple[float, float]]) -> tuple[Floats, Floats]:
    """Quarters and seconds of all beats and of the ends of what keeps its length, both ends of the music included."""
    edges = np.array([t for pair in keep_seconds for t in pair if tempo_map.seconds[0] < t < tempo_map.seconds[-1]])
    quarters = np.concatenate([tempo_map.beats().quarters, tempo_map.quarters[[0, -1]], tempo_map.quarters_at(edges)])
    quarters = np.unique(quarters)
    quarters = quarters[np.concatenate(([True], np.diff(quarters) > 1e-6))]
    return quarters, tempo_map.seconds_at(quarters)


def _kept(seconds: Floats, keep_seconds: Sequence[tuple[float, float]]) -> NDArray[np.bool_]:
    """Which intervals between anchors lie in a stretch that keeps its length."""
    middle = (seconds[1:] + seconds[:-1]) / 2
    kept = np.zeros(len(middle), dtype=np.bool_)
    for start, end in keep_seconds:
        kept |= (middle > start) & (middle < end)
    return kept


def _as_played(tempo_map: TempoMap) -> tuple[Floats, Floats, Floats]:
    quarters, seconds = _anchors(tempo_map, ())
    return quarters, seconds, np.diff(seconds)


def _conformed(tempo_map: TempoMap, quarters: Floats, seconds: Floats, lengths: Floats) -> Conformed:
    """The first anchor stays; the others follow in their new lengths."""
    targets = seconds[0] + np.concatenate(([0.0], np.cumsum(lengths)))
    if np.abs(lengths - np.diff(seconds)).max(initial=0) < 1e-12:
        targets = seconds
    made = tempo_map.with_points(targets, quarters)
    return Conformed(Warp.between_maps(tempo_map, made, quarters), made)


def _from_zero(warp: Warp) -> Warp:
    """Later as a whole where the recording's start would fall before zero."""
    start = float(warp.to_target(0.0))
    return warp.shifted(-start) if start < 0 else warp
