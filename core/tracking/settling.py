"""Settling beats on the attacks near them: their number stays."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from core.tempomap import TempoMap
from core.tempomap.edits import pins_of, with_every_beat
from core.tempomap.limits import CLOSEST
from core.tracking.context import AnalysisContext

#: An attack counts from this share of the strongest one nearby on, weighed by how good a guide its track is.
_BELIEVABLE = 0.3


def settle(context: AnalysisContext, tempo_map: TempoMap, first: int, last: int, within: float) -> TempoMap:
    """Move the felt beats ``first`` to ``last`` each to its nearest believable attack within ``within`` seconds. Pins,
    and beats without such an attack, stay; so does a beat that would come too close to its neighbour."""
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    on_beat = np.abs(index - np.round(index)) < 1e-6
    seconds = full.seconds.copy()
    for k in np.flatnonzero(on_beat & (index >= first - 0.5) & (index <= last + 0.5) & ~pins_of(full)):
        found = _nearest(context, float(full.seconds[k]), within)
        if found is None:
            continue
        low = seconds[k - 1] + 0.5 * CLOSEST if k else 0.0
        high = full.seconds[k + 1] - 0.5 * CLOSEST if k + 1 < len(seconds) else np.inf
        if low < found < high:
            seconds[k] = found
    return full.with_points(seconds, full.quarters, pins_of(full))


def _nearest(context: AnalysisContext, at: float, within: float) -> float | None:
    """The nearest attack that is believable among those within ``within`` seconds."""
    times: list[NDArray[np.float64]] = []
    worths: list[NDArray[np.float64]] = []
    for track, rank in zip(context.tracks, context.ranks, strict=True):
        a = track.attacks
        lo, hi = np.searchsorted(a.seconds, [at - within, at + within])
        times.append(a.seconds[lo:hi])
        worths.append(rank.weight * rank.clearness * a.strength[lo:hi])
    time, worth = np.concatenate(times), np.concatenate(worths)
    if not len(time) or worth.max() <= 0:
        return None
    believable = time[worth >= _BELIEVABLE * worth.max()]
    return float(believable[int(np.argmin(np.abs(believable - at)))])
