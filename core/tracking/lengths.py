"""How well lengths of beats and bars agree with those that the beat activation's network finds likely."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from core.listening.rates import FRAME_RATE
from core.tracking.beat_activation import BAR_LENGTHS, BEAT_LENGTHS, WINDOW_RATE

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: A length is never less likely than this (log probability), so that one stretch cannot decide for a whole take.
_LEAST = -6.0


def beat_length_likelihood(beat_lengths: Floats, frames: Ints) -> float:
    """Mean log probability of a chain's own beat lengths, each at its place.

    ``beat_lengths``: ``(windows, lengths)`` as in :class:`core.tracking.beat_activation.Activation`; ``frames``: of the
    beats, 100 a second, rising. 0 where there is nothing to go by.
    """
    if not len(beat_lengths) or len(frames) < 2:
        return 0.0
    step = np.log(BEAT_LENGTHS[1] / BEAT_LENGTHS[0])
    place = np.log(np.diff(frames) / FRAME_RATE / BEAT_LENGTHS[0]) / step
    outside = (place < -1) | (place > len(BEAT_LENGTHS))
    place = np.clip(place, 0, len(BEAT_LENGTHS) - 1)
    low = np.minimum(place.astype(np.int64), len(BEAT_LENGTHS) - 2)
    row = beat_lengths[_windows(beat_lengths, (frames[:-1] + frames[1:]) // 2)]
    k = np.arange(len(row))
    share = place - low
    likely = (1 - share) * row[k, low] + share * row[k, low + 1]
    return float(np.maximum(np.where(outside, _LEAST, likely), _LEAST).mean())


def bar_length_likelihood(bar_lengths: Floats, frames: Ints) -> dict[int, float]:
    """Mean log probability of each number of felt beats a bar between the first and the last of the beats ``frames``;
    empty where there is nothing to go by. ``bar_lengths``: ``(windows, lengths)`` as above."""
    if not len(bar_lengths) or len(frames) < 2:
        return {}
    first, last = _windows(bar_lengths, frames[[0, -1]])
    mean = np.maximum(bar_lengths[first : last + 1], _LEAST).mean(axis=0)
    return dict(zip(BAR_LENGTHS, mean.tolist(), strict=True))


def _windows(of: Floats, frames: Ints) -> Ints:
    return np.clip((frames / FRAME_RATE * WINDOW_RATE).astype(np.int64), 0, len(of) - 1)
