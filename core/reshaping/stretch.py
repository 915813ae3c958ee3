"""Samples in memory stretched along any path of times: loops that follow the bars."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from core.audio import Samples
from core.reshaping.engines.path import path_with_attacks
from core.reshaping.engines.similarity import by_similarity
from core.reshaping.sources import ArraySource


def time_stretched(
    source: Samples, rate: int, outs: ArrayLike, ins: ArrayLike, attacks: ArrayLike = (), frames: int | None = None
) -> Samples:
    """``source`` ``(frames, channels)`` moved so that second ``ins[i]`` of it sounds at second ``outs[i]``.

    ``outs`` and ``ins`` rise, two or more of each; between them time runs evenly, before and after them there is
    silence. ``attacks``: seconds of the source that are to keep their shape. ``frames``: length of the result;
    by default up to the last of ``outs``. Raises ``ValueError``.
    """
    o, i = np.asarray(outs, dtype=np.float64), np.asarray(ins, dtype=np.float64)
    if len(o) < 2 or len(o) != len(i) or (np.diff(o) <= 0).any() or (np.diff(i) <= 0).any():
        raise ValueError("A path of times needs two or more places that rise on both sides.")
    count = round(float(o[-1]) * rate) if frames is None else frames
    target, places = (np.round(x * rate).astype(np.int64) for x in (o, i))
    rising = np.concatenate(([True], (np.diff(target) > 0) & (np.diff(places) > 0)))
    attacks = np.sort(np.asarray(attacks, dtype=np.float64)) * rate
    path = path_with_attacks(target[rising], places[rising], attacks, rate)
    out = np.zeros((count, source.shape[1]), dtype=np.float32)
    at = int(target[0])
    for block in by_similarity(ArraySource(source, rate), path):
        first, last = max(0, at), min(count, at + len(block))
        if first < last:
            out[first:last] = block[first - at : last - at]
        at += len(block)
    return out
