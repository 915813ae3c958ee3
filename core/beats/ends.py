"""Where the mapped music begins and ends: the beats that are sure, and those around them that still sound like it.

The first bars of a free player and the last hits of a band have small posteriors, as little around them speaks for
them; they are music all the same. Applause and noise are as loud, but their pitch classes are flat.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from core.beats.fusion import Player

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Beats that may be taken in on either side.
MOST = 8
#: How loud, and how far from flat, a stretch has to be against the sure music's median.
_LOUD, _TONAL = 0.35, 0.75
#: The least attack on a beat that is taken in last.
_STRUCK = 0.3


def widened(frames: Ints, sure: slice, players: Sequence[Player], curve: Floats) -> slice:
    """``sure`` (a slice of the beats ``frames``, 100 a second) with the beats on either side that still sound like
    the music between them, up to :data:`MOST`, each end on a beat that is struck."""
    first, last = sure.start, sure.stop - 1
    if last - first < 8:
        return sure
    loud, tonal = loudness(players, len(curve)), _peakedness(players, len(curve))

    def alike(i: int) -> bool:
        """Whether what sounds between beats i and i + 1 is as loud and as far from flat as the sure music."""
        a, b = frames[i], min(frames[i + 1], len(loud))
        return b > a and loud[a:b].mean() > _LOUD * usual[0] and tonal[a:b].mean() > _TONAL * usual[1]

    inside = slice(int(frames[first]), int(frames[last]))
    usual = float(np.median(loud[inside])), float(np.median(tonal[inside]))
    struck = [curve[max(0, f - 4) : f + 5].max(initial=0.0) > _STRUCK for f in frames.tolist()]
    end = last
    for i in range(last, min(len(frames) - 1, last + MOST)):
        if not alike(i):
            break
        if struck[i + 1]:
            end = i + 1
    begin = first
    for i in range(first - 1, max(-1, first - 1 - MOST), -1):
        if not alike(i):
            break
        if struck[i]:
            begin = i
    return slice(begin, end + 1)


def loudness(players: Sequence[Player], count: int) -> Floats:
    """The loudest player's energy at each frame, on a linear scale of its own."""
    out = np.zeros(count)
    for p in players:
        energy = np.expm1(p.evidence.energy.astype(np.float64)).sum(axis=1)[:count]
        out[: len(energy)] = np.maximum(out[: len(energy)], energy)
    return out


def _peakedness(players: Sequence[Player], count: int) -> Floats:
    """The largest pitch class against all twelve together: a twelfth is flat."""
    total = np.zeros((count, 12))
    for p in players:
        chroma = p.evidence.chroma[:count]
        total[: len(chroma)] += chroma
    return np.asarray(total.max(axis=1) / (total.sum(axis=1) + 1e-9))
