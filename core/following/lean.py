"""Lean: how early or late each player sits against the map, beat by beat."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.listening.track import AnalysedTrack
from core.tempomap import TempoMap

Floats = NDArray[np.float64]

#: Beats from which a player's usual place can be told.
_FEWEST = 5
#: An attack farther than this from a beat belongs to something else, in seconds.
SEARCH_WINDOW = 0.07
#: Attacks weaker than this tell no lean.
_LEAST_STRENGTH = 0.15
#: Milliseconds around the usual lean in which an attack counts, least; and in standard deviations. The deviation is
#: told from the median one (1.4826: of a normal distribution).
_LEAST_WIDTH, _DEVIATIONS, _OF_MEDIAN = 8.0, 4, 1.4826


@dataclass(frozen=True)
class Lean:
    """One track against the map, in milliseconds; + is late.

    ``delay``: of a distant microphone behind the near ones, 0 where it is none, and taken out of all else;
    ``average`` and ``spread`` (standard deviation) over the beats on which it plays; ``share`` of the beats on
    which it does; ``by_beat``: average for each beat of the bar (NaN where it never plays); ``off``: one value a
    felt beat, NaN where it does not play.
    """

    name: str
    delay: float
    average: float
    spread: float
    share: float
    by_beat: Floats
    off: Floats


def lean(tempo_map: TempoMap, tracks: Sequence[AnalysedTrack], delays: Sequence[float] = ()) -> list[Lean]:
    """Every track's lean, in the order given. ``delays``: delay of each microphone in seconds, see
    :func:`core.listening.distance.delays`."""
    beats = tempo_map.beats()
    longest = int(beats.beat.max())
    out = []
    for track, delay in zip(tracks, delays or [0.0] * len(tracks), strict=True):
        times = track.attacks.seconds[track.attacks.strength > _LEAST_STRENGTH]
        off = 1000 * _nearest(beats.seconds + delay, times, SEARCH_WINDOW)
        played = ~np.isnan(off)
        # what strays far from the player's own usual place is another note, not a lean
        if played.sum() >= _FEWEST:
            usual = float(np.median(off[played]))
            width = max(_LEAST_WIDTH, _DEVIATIONS * _OF_MEDIAN * float(np.median(np.abs(off[played] - usual))))
            off = np.where(np.abs(off - usual) <= width, off, np.nan)
            played = ~np.isnan(off)
        by_beat = np.array([_mean(off[(beats.beat == b) & played]) for b in range(1, longest + 1)])
        spread = float(np.std(off[played])) if played.sum() > 1 else float("nan")
        share = float(played.mean())
        out.append(Lean(track.name, 1000 * delay, _mean(off[played]), spread, share, by_beat, off))
    return out


def _mean(x: Floats) -> float:
    return float(x.mean()) if len(x) else float("nan")


def _nearest(places: Floats, times: Floats, window: float) -> Floats:
    """From each place to the nearest of ``times``, NaN where none is within ``window``."""
    if not len(times):
        return np.full(len(places), np.nan)
    j = np.clip(np.searchsorted(times, places), 1, max(1, len(times) - 1))
    before, after = times[j - 1] - places, times[np.minimum(j, len(times) - 1)] - places
    off = np.where(np.abs(before) < np.abs(after), before, after)
    return np.where(np.abs(off) <= window, off, np.nan)
