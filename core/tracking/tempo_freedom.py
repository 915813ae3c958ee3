"""Stretches in which the tempo moves freely: a slow-down that goes back "a tempo", a free introduction, a cadenza.

Most music keeps a tempo that drifts by a per cent or two from beat to beat; in places players wait and hurry by ten and
more. No one price of a change of tempo fits both. So there are two manners of playing, strict and free, and the best
chain of beats goes from one to the other where that pays: a switching model (Hamilton 1989, "A new approach to the
economic analysis of nonstationary time series", Econometrica 57).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from core.listening.rates import FRAME_RATE
from core.tracking.decoder import HELD, RATIO, with_fixed
from core.tracking.parameters import FREE_BEAT, FREE_CHANGE, STRICT
from core.tracking.semi_markov import Curve, Ints, best_manners, tempo_prior, transition_costs, within_ratio
from core.tracking.semi_markov.model import change_costs


def decode_freely(
    curve: Curve,
    slow_bpm: float,
    fast_bpm: float,
    usual_bpm: float,
    pins: Ints | None = None,
    is_part: bool = False,
) -> tuple[Ints, NDArray[np.bool_]]:
    """The best chain of beats that may go over to free playing and back: its frames, and which beats are played freely.

    Going over and back together cost as much as a hold, also where a chain begins or ends there. ``is_part``: a part of
    a take may begin or end amid free playing; then beginning and ending there cost half. Other parameters as of
    :func:`core.tracking.decoder.decode`. Returns no frames where nothing is worth a chain.
    """
    shortest, longest = (max(1, round(60 * FRAME_RATE / b)) for b in (fast_bpm, slow_bpm))
    intervals = np.arange(shortest, longest + 1)
    count, free, over = len(intervals), np.array([[0.0], [1.0]]), STRICT.hold / 2
    changes = [transition_costs(shortest, count, price) for price in (STRICT.change, FREE_CHANGE)]
    frames, manner, score = best_manners(
        gain=with_fixed(curve - STRICT.beat, pins),
        lengths=intervals,
        shift=np.zeros((2, count), dtype=np.int64),
        prior=tempo_prior(intervals, 60 * FRAME_RATE / usual_bpm) + FREE_BEAT * free,
        ends=(over / 2 if is_part else over) * free + np.zeros(count),
        cost=np.stack([within_ratio(c, shortest, RATIO).T for c in changes]),
        over=np.array([[0.0, over], [over, 0.0]]),
        hold=STRICT.hold,
        held=HELD,
    )
    return (frames, manner == 1) if score > 0 else (frames[:0], manner[:0] == 1)


def tempo_cost(gaps: Curve) -> float:
    """What all changes between intervals ``gaps`` (frames) cost, in units of a full attack, in the manners that cost
    least. None costs more than a hold; a held beat pays for one hold, not for the change into it and the one out of it.
    """
    held = _held(gaps)
    gaps = gaps[~held]
    strict, free = (
        np.minimum(change_costs(gaps[:-1], gaps[1:], price), STRICT.hold) for price in (STRICT.change, FREE_CHANGE)
    )
    over = STRICT.hold / 2
    as_strict, as_free = 0.0, over + FREE_BEAT
    for s, f in zip(strict.tolist(), free.tolist(), strict=True):
        as_strict, as_free = min(as_strict + s, as_free + f + over), min(as_free + f, as_strict + over + s) + FREE_BEAT
    return STRICT.hold * int(held.sum()) + min(as_strict, as_free + over)


def _held(gaps: Curve) -> NDArray[np.bool_]:
    """Which intervals cost less as a held beat between two others than as a tempo of their own."""
    held = np.zeros(len(gaps), dtype=bool)
    changes = np.minimum(change_costs(gaps[:-1], gaps[1:], STRICT.change), STRICT.hold)
    as_hold = STRICT.hold + np.minimum(change_costs(gaps[:-2], gaps[2:], STRICT.change), STRICT.hold)
    times = gaps[1:-1] / gaps[:-2]
    held[1:-1] = (changes[:-1] + changes[1:] > as_hold) & (times >= HELD[0]) & (times <= HELD[1])
    return held
