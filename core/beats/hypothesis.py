"""Tempo hypotheses: complete readings of a take as a chain of beats, and how convincing each is.

A reading is described by a few numbers for the whole take (what sounds on its beats and between, how far the beat
activation agrees, at what pace it goes), weighed by weights that are fitted on made-up takes (``training/fit.py``).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from core.beats.fitted import fitted
from core.beats.steady import Grid
from core.listening.spectrum import FRAME_RATE

Curve = NDArray[np.float64]
Ints = NDArray[np.int64]

#: The range in which most music is counted, beats a minute (common practice).
USUAL_RANGE = (55.0, 215.0)
#: The pace most music is counted at when nothing else decides, near the preferred tempo of listeners
#: (Parncutt 1994: about 600 ms; van Noorden and Moelants 1999: about 500 ms).
USUAL_PACE = 115.0

#: What each number of a description is worth, in nats; fitted by ``training/fit.py``, but for the pace: that preference
#: is the published one of listeners: log-normal with a spread of 0.2 decades (Parncutt 1994).
WEIGHTS = fitted("hypotheses")
#: What an octave outside the range costs that the engineer gave: it is meant, the usual one is a habit.
MEANT = 20.0


@dataclass(frozen=True)
class TempoHypothesis:
    """One way to count the take: beats as frames, their usual tempo, and how convincing it is.

    ``on``, ``between`` and ``thirds``: mean attack strength on the beats, half-way, and at the thirds. ``numbers``:
    what the score is made of (see :data:`WEIGHTS`). ``grid``: where the beats are those of one exact tempo.
    """

    frames: Ints
    bpm: float
    score: float
    on: float
    between: float
    thirds: float
    numbers: dict[str, float]
    grid: Grid | None = None

    @property
    def ternary(self) -> bool:
        """Whether the beat divides in three rather than two; thirds as strong as beats are beats themselves."""
        return self.thirds > 0.1 and 1.5 * self.between < self.thirds < 0.8 * self.on


def score_hypothesis(
    curve: Curve, frames: Ints, low: float, high: float, activation: Curve | None = None
) -> TempoHypothesis:
    """Rate a chain of beats.

    Parameters: ``curve``, the attacks of all together at 100 frames a second; ``frames`` of the beats, rising; ``low``
    to ``high``, the expected beats a minute; ``activation``, how likely beats are, per frame.
    """
    gaps = np.diff(frames)
    bpm = float(60 * FRAME_RATE / np.median(gaps))
    wide = np.maximum(curve, np.maximum(np.roll(curve, 1), np.roll(curve, -1)))

    def mean_at(*shares: float) -> float:
        at = [np.minimum(frames[:-1] + np.round(gaps * s).astype(np.int64), len(wide) - 1) for s in shares]
        return float(np.mean([wide[a].mean() for a in at]))

    on, between = mean_at(0), mean_at(0.5)
    first, second = mean_at(1 / 3), mean_at(2 / 3)
    active = np.flatnonzero(curve > 0.2)
    music = max(1, active[-1] - active[0]) if len(active) else 1
    thirds = (first + second) / 2
    # a swung beat sounds only at its second third: that is still a beat in two; slow beats in three often do so too
    thirds = min(thirds, (2.5 if bpm < 85 else 1.3) * min(first, second))
    found = TempoHypothesis(frames, bpm, 0.0, on, between, thirds, {})
    # a dotted beat lasts longer than the quarters in which tempo ranges are thought
    pace = bpm * 1.5 if found.ternary else bpm
    outside = max(0.0, np.log2(low / pace), np.log2(pace / high))
    numbers = {
        "on": on,
        "between": between,
        "thirds": thirds,
        "pace": float(np.log2(pace / USUAL_PACE) ** 2),
        "outside": float(outside),
        "missing": max(0.0, 1 - (frames[-1] - frames[0]) / music),
        "eighths": _eighths(wide, found, pace),
        "agreement": 0.0,
        "log_odds": 0.0,
    }
    if activation is not None and activation.any():
        numbers["agreement"] = agreement(activation, frames)
        numbers["log_odds"] = _log_odds(activation, frames)
    score = sum(WEIGHTS[name] * number for name, number in numbers.items())
    if (low, high) != USUAL_RANGE:
        score -= MEANT * outside
    return replace(found, score=float(score), numbers=numbers)


def agreement(activation: Curve, frames: Ints) -> float:
    """How far a chain and the activation mean the same beats, 0 to 1: the harmonic mean of how likely the chain's beats
    are and of how much of the activation lies on them. Half and double both lose by it."""
    near = np.zeros(len(activation), dtype=bool)
    near[np.clip(frames[:, None] + np.arange(-4, 5), 0, len(activation) - 1)] = True
    inside = slice(max(0, int(frames[0]) - 50), int(frames[-1]) + 51)
    taken = float(activation[inside][near[inside]].sum() / max(float(activation[inside].sum()), 1e-9))
    around = activation[np.clip(frames[:, None] + np.arange(-2, 3), 0, len(activation) - 1)]
    sure = min(1.0, float(around.mean()) / 0.6)
    return 2 * taken * sure / max(taken + sure, 1e-9)


def _log_odds(activation: Curve, frames: Ints) -> float:
    """How much likelier the chain's beats are beats than not: log-odds a second. A beat too many takes away as much as
    a beat too few leaves out."""
    likely = activation[np.clip(frames[:, None] + np.arange(-3, 4), 0, len(activation) - 1)].max(axis=1)
    likely = np.clip(likely / TOP, 0.03, 0.97)
    return float(np.log(likely / (1 - likely)).sum() * FRAME_RATE / (frames[-1] - frames[0]))


#: The activation of a beat that is quite sure.
TOP = 0.95


def _eighths(wide: Curve, found: TempoHypothesis, pace: float) -> float:
    """How much a pulse looks like the eighths of slower beats.

    Nothing sounds between its beats, every other beat is weaker, and what is played repeats after even
    numbers of beats only: an odd bar cannot be counted at half its tempo (common practice).
    """
    bare = max(0.0, 1 - max(found.between, found.thirds) / max(found.on, 1e-6) / 0.35)
    if bare == 0:
        return 0.0
    strength = wide[found.frames]
    windows = [strength[k : k + 16] for k in range(0, max(1, len(strength) - 15), 8)]
    uneven = np.mean([abs(w[::2].mean() - w[1::2].mean()) / (w.mean() + 1e-9) for w in windows])
    fast = float(np.clip(2.5 * np.log2(pace / 115), 0, 1))
    return float(bare * (0.12 * uneven + 0.2 * fast / (1 + np.exp(-_even(wide, found.frames) / 0.02))))


def _even(wide: Curve, frames: Ints) -> float:
    """How much more alike beats are at even distances than at odd ones, up to 16 beats."""
    near = np.max([np.roll(wide, -1), wide, np.roll(wide, 1)], axis=0)
    gaps = np.diff(frames)
    at = [np.minimum(frames[:-1] + np.round(gaps * s).astype(np.int64), len(near) - 1) for s in (0, 0.25, 0.5, 0.75)]
    quarters = np.stack([near[a] for a in at], axis=1)
    pattern = (quarters - quarters.mean(axis=0)) / (quarters.std(axis=0) + 1e-9)
    lags = range(1, min(17, len(pattern) - 4))
    alike = np.array([np.mean(pattern[lag:] * pattern[:-lag]) for lag in lags])
    return float(alike[1::2].mean() - alike[::2].mean()) if len(alike) > 1 else 0.0
