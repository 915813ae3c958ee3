"""Tempo hypotheses: complete readings of a take as a chain of beats, each with a score.

Each is described by a few features of the whole take (what sounds on its beats and between, how far the beat activation
agrees, at what pace it goes); their weights are fitted (:mod:`core.tracking.parameters`).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from core.listening.rates import FRAME_RATE
from core.tracking.beat_patterns import TakeBands, read_pattern
from core.tracking.context import AnalysisContext
from core.tracking.exact_tempo import ExactTempo
from core.tracking.parameters import FAR_BEHIND, HYPOTHESIS_WEIGHTS, RANGE_IS_MEANT, USUAL_PACE, USUAL_RANGE

Curve = NDArray[np.float64]
Ints = NDArray[np.int64]

#: How far beyond its ends a chain is compared with the activation, in frames.
_MARGIN = 50
#: The activation of a beat that is quite sure, and the mean activation around such beats.
_SURE, _SURE_AROUND = 0.95, 0.6
#: The least probability that log-odds are taken of, and the greatest.
_ODDS = (0.03, 0.97)
#: Least onset envelope of music.
_SOUNDS = 0.2
#: A beat divides in three where its thirds are so strong, against what is half-way and against the beat itself.
_THIRDS, _THIRDS_TO_HALVES, _THIRDS_TO_BEATS = 0.1, 1.5, 0.8
#: Slow beats in three may leave out a third: one may be so many times the other, below so many bpm and above.
_LOPSIDED_SLOW, _LOPSIDED, _SLOW = 2.5, 1.3, 85
#: Eighth notes of slower beats: how little sounds between them; what uneven strength and what a fast, evenly paired
#: pulse count; octaves to a fast one; and the width of the step in evenness.
_BARE, _UNEVEN, _FAST_PAIRS, _FASTER, _EVENNESS_WIDTH = 0.35, 0.12, 0.2, 1 / 2.5, 0.02


@dataclass(frozen=True)
class TempoHypothesis:
    """One way to count the take.

    Attributes
    ----------
    frames : int64, (beats,)
        Its beats, 100 frames a second.
    bpm : float
        The median tempo, beats a minute.
    score : float
        How likely it is against others, in nats.
    on, between, thirds : float
        Mean onset envelope on the beats, half-way between them, and at their thirds.
    features : dict
        What the score is made of, by the names of :data:`core.tracking.parameters.HYPOTHESIS_WEIGHTS`.
    exact_tempo : ExactTempo or None
        Given where the beats are those of one exact tempo.
    """

    frames: Ints
    bpm: float
    score: float
    on: float
    between: float
    thirds: float
    features: dict[str, float]
    exact_tempo: ExactTempo | None = None

    @property
    def ternary(self) -> bool:
        """Whether the beat divides in three rather than two; thirds as strong as beats are beats themselves."""
        return self.thirds > _THIRDS and _THIRDS_TO_HALVES * self.between < self.thirds < _THIRDS_TO_BEATS * self.on


def score_hypothesis(
    onset_envelope: Curve,
    frames: Ints,
    low: float,
    high: float,
    activation: Curve | None = None,
    bands: TakeBands | None = None,
) -> TempoHypothesis:
    """Rate a chain of beats.

    Parameters
    ----------
    onset_envelope : (frames,)
        How strongly something starts, all tracks together.
    frames : int64, (beats,)
        The chain, rising.
    low, high : float
        The expected range, beats a minute.
    activation : (frames,)
        How likely beats are.
    bands : TakeBands
        The take's sound, to read beat by beat.
    """
    gaps = np.diff(frames)
    bpm = float(60 * FRAME_RATE / np.median(gaps))
    wide = np.maximum(onset_envelope, np.maximum(np.roll(onset_envelope, 1), np.roll(onset_envelope, -1)))

    def mean_at(*shares: float) -> float:
        at = [np.minimum(frames[:-1] + np.round(gaps * s).astype(np.int64), len(wide) - 1) for s in shares]
        return float(np.mean([wide[a].mean() for a in at]))

    on, between = mean_at(0), mean_at(0.5)
    first, second = mean_at(1 / 3), mean_at(2 / 3)
    active = np.flatnonzero(onset_envelope > _SOUNDS)
    music = max(1, active[-1] - active[0]) if len(active) else 1
    thirds = (first + second) / 2
    # a swung beat sounds only at its second third: that is still a beat in two; slow beats in three often do so too
    thirds = min(thirds, (_LOPSIDED_SLOW if bpm < _SLOW else _LOPSIDED) * min(first, second))
    found = TempoHypothesis(frames, bpm, 0.0, on, between, thirds, {})
    # tempo ranges are given in quarters; a dotted beat lasts longer
    pace = bpm * 1.5 if found.ternary else bpm
    outside = max(0.0, np.log2(low / pace), np.log2(pace / high))
    features = {
        "on": on,
        "between": between,
        "thirds": thirds,
        "pace": float(np.log2(pace / USUAL_PACE) ** 2),
        "outside": float(outside),
        "missing": max(0.0, 1 - (frames[-1] - frames[0]) / music),
        "eighths": _eighth_note_pulse(wide, found, pace),
        "agreement": 0.0,
        "log_odds": 0.0,
        "pattern": read_pattern(bands.along(frames))[0] if bands and len(frames) > 1 else 0.0,
        "behind": 0.0,  # told among others only: see `compared`
    }
    if activation is not None and activation.any():
        features["agreement"] = agreement(activation, frames)
        features["log_odds"] = _log_odds(activation, frames)
    score = sum(HYPOTHESIS_WEIGHTS[name] * value for name, value in features.items())
    if (low, high) != USUAL_RANGE:
        score -= RANGE_IS_MEANT * outside
    return replace(found, score=float(score), features=features)


def rate(context: AnalysisContext, frames: Ints, tempo: tuple[float, float] = USUAL_RANGE) -> TempoHypothesis:
    """:func:`score_hypothesis` with a take's own onset envelope, activation and sound."""
    return score_hypothesis(context.onset_envelope, frames, *tempo, context.beat_activation[:, 0], context.bands)


def compared(found: Sequence[TempoHypothesis]) -> list[TempoHypothesis]:
    """The hypotheses of one take, in their order, each with ``behind`` in its features and score: by how much less its
    pattern is recognised than the best one's, in nats, at most :data:`FAR_BEHIND`.

    The score has the pattern itself, too. So the first nats between two patterns count for more than further ones: it
    matters which of two is the true one, and hardly how unlikely the other is. Where none is recognised (all log-odds
    below 0), ``behind`` is 0 for all.
    """
    recognised = [max(0.0, h.features["pattern"]) for h in found]
    best = max(recognised, default=0.0)
    behind = [min(best - own, FAR_BEHIND) for own in recognised]
    weight = HYPOTHESIS_WEIGHTS["behind"]
    return [
        replace(h, score=h.score + weight * (b - h.features["behind"]), features={**h.features, "behind": b})
        for h, b in zip(found, behind, strict=True)
    ]


def agreement(activation: Curve, frames: Ints) -> float:
    """How well a chain and the activation agree, 0 to 1: the harmonic mean of how likely the chain's beats are and of
    how much of the activation lies on them. Half and double both lose by it."""
    near = np.zeros(len(activation), dtype=bool)
    near[np.clip(frames[:, None] + np.arange(-4, 5), 0, len(activation) - 1)] = True
    inside = slice(max(0, int(frames[0]) - _MARGIN), int(frames[-1]) + _MARGIN + 1)
    taken = float(activation[inside][near[inside]].sum() / max(float(activation[inside].sum()), 1e-9))
    around = activation[np.clip(frames[:, None] + np.arange(-2, 3), 0, len(activation) - 1)]
    sure = min(1.0, float(around.mean()) / _SURE_AROUND)
    return 2 * taken * sure / max(taken + sure, 1e-9)


def _log_odds(activation: Curve, frames: Ints) -> float:
    """How much likelier the chain's beats are beats than not: log-odds a second. A beat too many costs as much as
    a beat too few."""
    likely = activation[np.clip(frames[:, None] + np.arange(-3, 4), 0, len(activation) - 1)].max(axis=1)
    likely = np.clip(likely / _SURE, *_ODDS)
    return float(np.log(likely / (1 - likely)).sum() * FRAME_RATE / (frames[-1] - frames[0]))


def _eighth_note_pulse(wide: Curve, found: TempoHypothesis, pace: float) -> float:
    """How much a chain looks like the eighth notes of slower beats.

    Nothing sounds between its beats, every other beat is weaker, and what is played repeats after even
    numbers of beats only: an odd bar cannot be counted at half its tempo (common practice).
    """
    bare = max(0.0, 1 - max(found.between, found.thirds) / max(found.on, 1e-6) / _BARE)
    if bare == 0:
        return 0.0
    strength = wide[found.frames]
    windows = [strength[k : k + 16] for k in range(0, max(1, len(strength) - 15), 8)]
    uneven = np.mean([abs(w[::2].mean() - w[1::2].mean()) / (w.mean() + 1e-9) for w in windows])
    fast = float(np.clip(np.log2(pace / USUAL_PACE) / _FASTER, 0, 1))
    return float(
        bare * (_UNEVEN * uneven + _FAST_PAIRS * fast / (1 + np.exp(-_evenness(wide, found.frames) / _EVENNESS_WIDTH)))
    )


def _evenness(wide: Curve, frames: Ints) -> float:
    """How much more alike beats are at even distances than at odd ones, up to 16 beats."""
    near = np.max([np.roll(wide, -1), wide, np.roll(wide, 1)], axis=0)
    gaps = np.diff(frames)
    at = [np.minimum(frames[:-1] + np.round(gaps * s).astype(np.int64), len(near) - 1) for s in (0, 0.25, 0.5, 0.75)]
    quarters = np.stack([near[a] for a in at], axis=1)
    pattern = (quarters - quarters.mean(axis=0)) / (quarters.std(axis=0) + 1e-9)
    lags = range(1, min(17, len(pattern) - 4))
    alike = np.array([np.mean(pattern[lag:] * pattern[:-lag]) for lag in lags])
    return float(alike[1::2].mean() - alike[::2].mean()) if len(alike) > 1 else 0.0
