"""Where a map from elsewhere belongs under a recording: the time by which it has to move so that its beats stand on
what sounds like beats, and its bar lines on downbeats."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.listening.rates import FRAME_RATE
from core.tempomap import TempoMap
from core.tracking.context import AnalysisContext

Floats = NDArray[np.float64]

#: An attack this near to a beat may be its own, in seconds.
_NEAR = 0.03
#: Other places are compared from so many seconds away on.
_ELSEWHERE = 0.08
#: Tracks of at least this share of the first guide's weight say where the beats are.
_GUIDES = 0.5
#: At least this share of a map's beats has to lie in the recording.
_LEAST_INSIDE = 0.5
#: By this share of its height the best place has to exceed every other one to be called clear.
_CLEAR = 0.08
#: What the downbeats count beside the beats.
_LINES_SHARE = 0.5


@dataclass(frozen=True)
class Offset:
    """``seconds``: by which the map moves; ``lead``: by how much of its height the fit there exceeds that at the next
    best place; ``inside``: the share of its beats that lie in the recording then."""

    seconds: float
    lead: float
    inside: float

    @property
    def is_clear(self) -> bool:
        return self.lead >= _CLEAR


def find_offset(context: AnalysisContext, tempo_map: TempoMap) -> Offset:
    """The offset of the best fit, to the frame by correlation, then by the attacks beside the beats."""
    beats = tempo_map.beats()
    curve, down = context.decoding_curve, context.beat_activation[:, 1]
    first = float(beats.seconds[0])
    frames = np.round((beats.seconds - first) * FRAME_RATE).astype(np.int64)
    lines = frames[beats.beat == 1]
    length = int(frames[-1])
    fit = _mean_under(curve, frames, length) + _LINES_SHARE * _mean_under(down, lines, length)
    inside = _mean_under(np.ones(len(curve)), frames, length)
    fit = np.where(inside >= _LEAST_INSIDE, fit, -np.inf)
    best = int(np.argmax(fit))
    away = np.abs(np.arange(len(fit)) - best) > _ELSEWHERE * FRAME_RATE
    other = float(fit[away].max()) if away.any() else -np.inf
    lead = (float(fit[best]) - other) / max(float(fit[best]), 1e-9) if np.isfinite(other) else 1.0
    seconds = (best - length) / FRAME_RATE - first
    seconds += _refined(context, beats.seconds + seconds)
    return Offset(float(seconds), float(lead), float(inside[best]))


def _mean_under(curve: Floats, frames: NDArray[np.int64], length: int) -> Floats:
    """The mean of a curve at ``frames`` (0 to ``length``), moved by every number of frames: place ``k`` is a move by
    ``k - length``. Frames outside the curve count as nothing."""
    from scipy.signal import fftconvolve  # takes most of a second to import: only who needs it pays

    train = np.zeros(length + 1)
    np.add.at(train, frames, 1.0)
    return np.asarray(fftconvolve(curve, train[::-1]) / max(1, len(frames)))


def _refined(context: AnalysisContext, seconds: Floats) -> float:
    """The median distance from beats to the attacks beside them, on the tracks that guide most."""
    off, most = [], max(rank.weight for rank in context.ranks)
    for track, rank in zip(context.tracks, context.ranks, strict=True):
        if rank.weight < _GUIDES * most:
            continue
        at = track.attacks.seconds
        k = np.clip(np.searchsorted(at, seconds), 1, len(at) - 1)
        nearest = np.where(np.abs(at[k] - seconds) < np.abs(at[k - 1] - seconds), at[k], at[k - 1]) - seconds
        off.append(nearest[np.abs(nearest) < _NEAR])
    every = np.concatenate(off) if off else np.zeros(0)
    return float(np.median(every)) if len(every) else 0.0
