"""Machines: one exact tempo with an offset, told from a human player by how little the attacks stray."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from core.tempomap import TempoMap

Floats = NDArray[np.float64]

#: A machine's attacks stray less than this from an even grid, in seconds; no human's do over a whole take.
STRAY = 0.0025


def fit(seconds: Floats, support: Floats) -> tuple[float, float, float]:
    """Start, interval and spread (within which 70 % of beats lie, seconds) of the even grid nearest to supported beats.

    Least squares, repeated without the beats that lie far off.
    """
    k = np.arange(len(seconds))
    keep = support > 0.15
    if keep.sum() < 8:
        keep[:] = True
    interval, start = 1.0, 0.0
    for _ in range(6):
        interval, start = np.polyfit(k[keep], seconds[keep], 1)
        off = np.abs(seconds - start - interval * k)
        keep = (support > 0.15) & (off <= max(0.002, 3 * float(np.median(off))))
        if keep.sum() < 8:
            break
    off = np.abs(seconds - start - interval * k)[support > 0.15]
    return float(start), float(interval), float(np.percentile(off, 70)) if len(off) else np.inf


def straighten(tempo_map: TempoMap, support: Floats, always: bool = False) -> TempoMap | None:
    """The map with one exact tempo where a machine plays (or ``always``), else None.

    Two points carry it, so the tempo is as exact as the whole take allows.
    """
    seconds = tempo_map.seconds
    start, interval, spread = fit(seconds, support)
    if not always and (spread > STRAY or len(seconds) < 16):
        return None
    ends = np.array([0, len(seconds) - 1])
    return TempoMap(start + interval * ends, tempo_map.quarters[ends], tempo_map.meters)
