"""By how much what is played around each beat speaks for a chain of beats rather than for its nearest rivals."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter1d

from core.tracking.beat_patterns import TakeBands, pattern_levels

Floats = NDArray[np.float64]

#: Beats around each whose patterns count with it: eight bars of four.
_AROUND = 32
#: Fewest beats of a chain whose pattern is read.
_FEWEST = 8
#: Bounds of one beat's pattern, in nats: one odd bar must not decide a stretch.
_BOUNDS = (-20.0, 20.0)


def pattern_margin(bands: TakeBands | None, frames: NDArray[np.float64] | NDArray[np.int64]) -> Floats:
    """Nats a beat, ``(beats,)``: the pattern around it less that of the likeliest rival, which is the off-beats, twice
    as many beats, or every other beat; 0 where there is nothing to read. ``frames``: of the chain, rising, 100 a
    second."""
    n = len(frames)
    if bands is None or n < _FEWEST:
        return np.zeros(n)
    at = np.asarray(frames, dtype=np.float64)
    middles = np.append((at[1:] + at[:-1]) / 2, at[-1] + (at[-1] - at[-2]) / 2)

    def around(levels: Floats) -> Floats:
        return np.asarray(uniform_filter1d(np.clip(levels, *_BOUNDS), min(_AROUND, n), mode="nearest"))

    def read(chain: Floats) -> Floats:
        return pattern_levels(bands.along(chain))

    double = read(np.column_stack([at, middles]).ravel()).reshape(n, 2).mean(axis=1)
    first, second = (np.repeat(read(at[k::2]), 2) for k in (0, 1))
    halves = first[:n], np.concatenate([second[:1], second, second[-1:]])[:n]
    rivals = [around(levels) for levels in (read(middles), double, *halves)]
    return np.asarray(around(read(at)) - np.maximum.reduce(rivals))
