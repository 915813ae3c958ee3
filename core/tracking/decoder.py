"""The most likely chain of beats through a decoding curve, of whatever number or of a known one, and how sure its beats
are. The model is that of :mod:`core.tracking.semi_markov`."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from core.listening.rates import FRAME_RATE
from core.tracking.parameters import COUNTED, STRICT, TransitionCosts
from core.tracking.semi_markov import (
    Curve,
    Ints,
    beat_posterior,
    best_chain,
    counted_chain,
    tempo_prior,
    transition_costs,
)

#: What a beat has to gain that cannot be left out.
_FIXED = 1e6
#: What a frame is worth that cannot be a beat, in units of a full attack.
NEVER = -10.0
#: How many times its neighbours a held beat may last.
HELD = (1.6, 4.0)
#: Intervals side by side differ by no more than this factor.
RATIO = 1.7


def with_fixed(gain: Curve, pins: Ints | None) -> Curve:
    """The gain with that of ``pins`` (frames that have to be beats) beyond all others."""
    if pins is None or not len(pins):
        return gain
    gain = gain.copy()
    gain[pins] += _FIXED
    return gain


def decode(
    curve: Curve,
    slow_bpm: float,
    fast_bpm: float,
    usual_bpm: float,
    costs: TransitionCosts = STRICT,
    pins: Ints | None = None,
) -> tuple[Ints, float]:
    """The best chain of beats: their frames, and its score in units of a full attack.

    Parameters
    ----------
    curve : (frames,)
        How likely beats are, about 0 to 1, 100 frames a second.
    slow_bpm, fast_bpm, usual_bpm : float
        Bounds of every beat interval, and the tempo from which straying costs a little; beats a minute.
    pins : int64
        Frames that have to be beats.

    Returns no frames where nothing is worth a chain.
    """
    shortest, longest = (max(1, round(60 * FRAME_RATE / b)) for b in (fast_bpm, slow_bpm))
    gain = with_fixed(curve - costs.beat, pins)
    prior = tempo_prior(np.arange(shortest, longest + 1), 60 * FRAME_RATE / usual_bpm)
    cost = transition_costs(shortest, len(prior), costs.change)
    frames, score = best_chain(gain, shortest, prior, cost, RATIO, costs.hold, HELD)
    return (frames, score) if score > 0 else (np.zeros(0, dtype=np.int64), 0.0)


# ---- a known number of beats

#: How far the tempo may lie from the usual one, as a factor either way.
COUNTED_RANGE = 1.8
#: How long a held beat may be against the usual one; any tempo may follow it.
COUNTED_HELD = (1.4, 5.0)
#: How many beats the chain may run ahead of even beats or behind them.
_AWAY = 4


def decode_counted(
    curve: Curve, beats: int, usual: float, costs: TransitionCosts = COUNTED, pins: Ints | None = None
) -> tuple[Ints, float]:
    """The best chain of ``beats`` beats from the first frame of ``curve`` to its last: ``beats + 1`` frames, and its
    score in units of a full attack.

    ``usual``: frames between beats from which straying costs a little; ``pins``: frames that have to be beats. Returns
    no frames where no chain of so many fits.
    """
    none = np.zeros(0, dtype=np.int64), -np.inf
    if len(curve) <= beats:
        return none  # a stretch beyond the recording's end, or beats closer than frames
    shortest, longest = max(1, int(usual / COUNTED_RANGE)), int(usual * COUNTED_RANGE) + 1
    prior = costs.stray * tempo_prior(np.arange(shortest, longest + 1), usual)
    cost = transition_costs(shortest, len(prior), costs.change)
    held = int(COUNTED_HELD[0] * usual), int(COUNTED_HELD[1] * usual)
    chain, score = counted_chain(with_fixed(curve, pins), beats, shortest, prior, cost, costs.hold, held, _AWAY)
    return (chain, score) if chain[0] == 0 else none


# ---- how sure


@dataclass(frozen=True)
class _Level:
    """Intervals around the typical one: rivals at half or double are told apart by the whole take, not beat by beat."""

    shortest: int
    longest: int
    prior: Curve
    cost: Curve

    #: How far intervals may lie from the typical one, and from their neighbours, as factors.
    RANGE = 1.3
    RATIO = 1.25

    @classmethod
    def around(cls, typical: float, costs: TransitionCosts, sharpness: float) -> _Level:
        shortest, longest = int(typical / cls.RANGE), int(typical * cls.RANGE) + 1
        prior = sharpness * tempo_prior(np.arange(shortest, longest + 1), typical)
        return cls(shortest, longest, prior, transition_costs(shortest, len(prior), sharpness * costs.change))


#: Nats a full attack is worth; fitted so that posteriors are about right (docs/measured.md).
SHARPNESS = 4.0


def posterior(curve: Curve, frames: Ints, costs: TransitionCosts = STRICT) -> Curve:
    """For each beat of a chain the probability that the music has a beat within 40 ms of it, given the tempo level.

    ``curve``: as of :func:`decode`; ``frames``: the chain. A chain ends at a held beat and another begins after it.
    """
    gaps = np.diff(frames)
    level = _Level.around(float(np.median(gaps)), costs, SHARPNESS)
    after_hold = np.flatnonzero(gaps[1:] > HELD[0] * gaps[:-1]) + 2
    parts = np.split(frames, after_hold)
    out = []
    for k, part in enumerate(parts):
        lo = max(0, part[0] - level.longest, parts[k - 1][-1] + 1 if k else 0)
        hi = min(len(curve), part[-1] + level.longest, parts[k + 1][0] if k + 1 < len(parts) else len(curve))
        gain = SHARPNESS * (curve[lo:hi] - costs.beat)
        likely = beat_posterior(gain, level.shortest, level.prior, level.cost, level.RATIO)
        sums = np.concatenate([[0.0], np.cumsum(likely)])
        at = part - lo
        out.append(np.clip(sums[np.minimum(at + 5, len(likely))] - sums[np.maximum(at - 4, 0)], 0.0, 1.0))
    return np.concatenate(out)
