"""The most likely chain: Viterbi over (frame, interval)."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from core.tracking.semi_markov.model import IMPOSSIBLE, Curve, Ints, neighbours


@njit(cache=True, nogil=True)
def _scores(
    gain: NDArray[Any],
    opening: NDArray[Any],
    shortest: int,
    prior: NDArray[Any],
    cost: NDArray[Any],
    hold: float,
    held: tuple[float, float],
) -> NDArray[Any]:
    """The score of the best chain that ends with a beat at each frame, so many frames after the one before.

    Back pointers are not kept: how a chain came about is worked out afterwards, for the few states on the best one
    (:func:`_traced`)."""
    n, m = len(gain), len(prior)
    longest = shortest + m - 1
    score, onward = np.full((n, m), IMPOSSIBLE), np.full((n, m), IMPOSSIBLE)
    # for each interval the frames from which a held beat may come, best first, with their scores, as a queue (a sliding
    # maximum); its size is a power of two, so that places go round by a mask
    size = 1
    while size < int(held[1] * longest) + 2:
        size *= 2
    mask = size - 1
    frame, worth = np.empty((m, size), dtype=np.int32), np.empty((m, size))
    first, last = np.zeros(m, dtype=np.int64), np.zeros(m, dtype=np.int64)
    for t in range(n):
        for i in range(min(m, t - shortest + 1)):
            interval = shortest + i
            # two beats open a chain: the one an interval ago and this one
            total = max(opening[t - interval], onward[t - interval, i]) - prior[i]
            newest, oldest = t - int(held[0] * interval), t - int(held[1] * interval)
            if hold < np.inf and newest >= 0:
                head, tail, new = first[i], last[i], score[newest, i]
                while tail > head and worth[i, (tail - 1) & mask] <= new:
                    tail -= 1
                frame[i, tail & mask], worth[i, tail & mask] = newest, new
                while frame[i, head & mask] < oldest:
                    head += 1
                first[i], last[i] = head, tail + 1
                total = max(total, worth[i, head & mask] - hold)
            score[t, i] = total + gain[t]
        _carry(score[t], cost, onward[t])
    return score


@njit(cache=True, nogil=True, fastmath={"nnan", "nsz"})
def _carry(score: NDArray[Any], cost: NDArray[Any], onward: NDArray[Any]) -> None:
    """What a beat after each interval is worth to the next interval, less the ``cost`` (from, to) of the change. Side
    by side in the next interval, so that several are done at a time."""
    for j in range(len(score)):
        for i in range(len(onward)):
            now = score[j] - cost[j, i]
            onward[i] = now if now > onward[i] else onward[i]


@njit(cache=True, nogil=True)
def _traced(
    score: NDArray[Any],
    last: int,
    opening: NDArray[Any],
    shortest: int,
    prior: NDArray[Any],
    cost: NDArray[Any],
    hold: float,
    held: tuple[float, float],
) -> list[int]:
    """Frames of the best chain that ends at frame ``last`` or later, last beat first."""
    m = score.shape[1]
    best = int(np.argmax(score[last:]))
    t, i = last + best // m, best % m
    chain = [t]
    while True:
        interval = shortest + i
        u = t - interval
        backpointer, total = -1, opening[u]
        for j in range(m):
            if score[u, j] - cost[j, i] > total:
                backpointer, total = j, score[u, j] - cost[j, i]
        total -= prior[i]
        # of held beats that are worth the same the shortest
        if hold < np.inf:
            for before in range(t - int(held[0] * interval), max(-1, t - int(held[1] * interval) - 1), -1):
                if score[before, i] - hold > total:
                    backpointer, total, u = i, score[before, i] - hold, before
        chain.append(u)
        if backpointer < 0:
            return chain
        t, i = u, backpointer


def best_chain(
    gain: Curve,
    shortest: int,
    prior: Curve,
    cost: Curve,
    ratio: float = np.inf,
    hold: float = np.inf,
    held: tuple[float, float] = (2.0, 2.0),
    opening: Curve | None = None,
    last: int = 0,
) -> tuple[Ints, float]:
    """The most likely chain of two beats or more.

    Parameters
    ----------
    gain : (frames,)
        Worth of a beat at each frame.
    shortest : int
        The shortest interval, in frames; ``prior`` has a price for it and each longer one.
    prior : (intervals,)
        Price of each interval (:func:`~core.tracking.semi_markov.model.tempo_prior`).
    cost : (intervals, intervals)
        Price of going to an interval from another (:func:`~core.tracking.semi_markov.model.transition_costs`).
    ratio : float
        Intervals side by side differ by no more than this factor.
    hold, held
        Price of one long beat after which the tempo is what it was before, and how many times the others it lasts, at
        least and at most. An infinite price: there are none.
    opening : (frames,)
        Worth of a chain's first beat, where that is not its ``gain``; -inf where no chain may begin.
    last : int
        The first frame at which a chain may end.

    Returns
    -------
    frames of the beats, rising, and their score; no frames where no chain is worth more than none.
    """
    cost = cost.copy()
    if ratio < np.inf:
        for i, (low, high) in enumerate(neighbours(shortest, len(prior), ratio)):
            cost[i, :low] = cost[i, high:] = np.inf
    cost = np.ascontiguousarray(cost.T)
    opening = gain if opening is None else opening
    score = _scores(gain, opening, shortest, prior, cost, hold, held)
    best = float(score[last:].max(initial=IMPOSSIBLE))
    if best <= IMPOSSIBLE / 2:
        return np.zeros(0, dtype=np.int64), 0.0
    chain = _traced(score, last, opening, shortest, prior, cost, hold, held)
    return np.array(chain[::-1], dtype=np.int64), best
