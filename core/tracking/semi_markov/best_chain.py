"""The most likely chain: Viterbi over (frame, interval), where asked for over several manners of playing, too."""

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
    lengths: NDArray[Any],
    shift: NDArray[Any],
    prior: NDArray[Any],
    ends: NDArray[Any],
    cost: NDArray[Any],
    over: NDArray[Any],
    hold: float,
    held: tuple[float, float],
) -> NDArray[Any]:
    """The score of the best chain that ends with a beat at each frame in each state (interval and manner of playing).

    Back pointers are not kept: how a chain came about is worked out afterwards, for the few states on the best one
    (:func:`_traced`)."""
    n, m = len(gain), len(lengths)
    manners, count = cost.shape[:2]
    score, onward = np.full((n, m), IMPOSSIBLE), np.full((n, m), IMPOSSIBLE)
    # The best score from which a held beat may come: the maximum over a window that slides, after van Herk and
    # Gil-Werman. Each state's scores come in blocks as wide as its window; before ``place`` stand those of this block,
    # behind it the maxima from there to the end of the block before.
    nearest, width = np.empty(m, dtype=np.int64), np.empty(m, dtype=np.int64)
    for i in range(m):
        nearest[i] = int(held[0] * lengths[i])
        width[i] = int(held[1] * lengths[i]) - nearest[i] + 1
    recent = np.full((m, width.max() + 1), IMPOSSIBLE)
    place, largest = np.zeros(m, dtype=np.int64), np.empty(m)
    for t in range(n):
        price = prior[min(t, len(prior) - 1)]
        for i in range(m):
            interval = lengths[i]
            if interval > t:
                continue
            # two beats open a chain: the one an interval ago and this one
            total = max(opening[t - interval] - ends[i], onward[t - interval, i]) - price[i]
            if hold < np.inf and t >= nearest[i]:
                k, new = place[i], score[t - nearest[i], i]
                recent[i, k] = new
                largest[i] = max(largest[i], new) if k else new
                total = max(total, max(largest[i], recent[i, k + 1]) - hold)
                place[i] = k + 1
                if k + 1 == width[i]:
                    for before in range(k - 1, -1, -1):
                        recent[i, before] = max(recent[i, before], recent[i, before + 1])
                    place[i] = 0
            score[t, i] = total + gain[t - shift[i]]
        for manner in range(manners):
            own = slice(manner * count, (manner + 1) * count)
            _carry(score[t, own], cost[manner], onward[t, own])
            for other in range(manners):
                if other != manner:
                    for i in range(count):
                        came = score[t, other * count + i] - over[other, manner]
                        onward[t, manner * count + i] = max(onward[t, manner * count + i], came)
    return score


@njit(cache=True, nogil=True, fastmath={"nnan", "nsz"})
def _carry(score: NDArray[Any], cost: NDArray[Any], onward: NDArray[Any]) -> None:
    """What a beat after each interval is worth to the next interval, less the ``cost`` (from, to) of the change. Side
    by side in the next interval, so that several are done at a time; four from which it comes at once, to look up what
    is best so far less often."""
    fours = len(score) // 4 * 4
    for j in range(0, fours, 4):
        for i in range(len(onward)):
            one = max(score[j] - cost[j, i], score[j + 1] - cost[j + 1, i])
            two = max(score[j + 2] - cost[j + 2, i], score[j + 3] - cost[j + 3, i])
            onward[i] = max(onward[i], max(one, two))
    for j in range(fours, len(score)):
        for i in range(len(onward)):
            onward[i] = max(onward[i], score[j] - cost[j, i])


@njit(cache=True, nogil=True)
def _traced(
    score: NDArray[Any],
    last: int,
    opening: NDArray[Any],
    lengths: NDArray[Any],
    prior: NDArray[Any],
    ends: NDArray[Any],
    cost: NDArray[Any],
    over: NDArray[Any],
    hold: float,
    held: tuple[float, float],
) -> list[tuple[int, int]]:
    """Frames and states of the best chain that ends at frame ``last`` or later, last beat first."""
    m = score.shape[1]
    manners, count = cost.shape[:2]
    best = int(np.argmax(score[last:] - ends))
    t, i = last + best // m, best % m
    chain = [(t, i)]
    while True:
        interval = lengths[i]
        u = t - interval
        backpointer, total = -1, opening[u] - ends[i]
        manner, there = i // count, i % count
        for j in range(count):
            came = score[u, manner * count + j] - cost[manner, j, there]
            if came > total:
                backpointer, total = manner * count + j, came
        for other in range(manners):
            came = score[u, other * count + there] - over[other, manner]
            if other != manner and came > total:
                backpointer, total = other * count + there, came
        total -= prior[min(t, len(prior) - 1), i]
        # of held beats that are worth the same the shortest
        if hold < np.inf:
            for before in range(t - int(held[0] * interval), max(-1, t - int(held[1] * interval) - 1), -1):
                if score[before, i] - hold > total:
                    backpointer, total, u = i, score[before, i] - hold, before
        chain.append((u, backpointer if backpointer >= 0 else i))
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
    prior : (intervals,) or (frames, intervals)
        Price of each interval (:func:`~core.tracking.semi_markov.model.tempo_prior`), where it depends on that by the
        frame at which it ends.
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
    lengths = shortest + np.arange(prior.shape[-1])
    cost = np.ascontiguousarray(within_ratio(cost, shortest, ratio).T)
    nothing, shift = np.zeros((1, len(lengths))), np.zeros((1, len(lengths)), dtype=np.int64)
    one, over = cost[None], np.zeros((1, 1))
    return best_manners(gain, lengths, shift, prior, nothing, one, over, hold, held, opening, last)[::2]


def within_ratio(cost: Curve, shortest: int, ratio: float) -> Curve:
    """The transition costs ``(to, from)``, infinite between intervals that differ by more than the factor ``ratio``."""
    cost = cost.copy()
    if ratio < np.inf:
        for i, (low, high) in enumerate(neighbours(shortest, len(cost), ratio)):
            cost[i, :low] = cost[i, high:] = np.inf
    return cost


def best_manners(
    gain: Curve,
    lengths: Ints,
    shift: Ints,
    prior: Curve,
    ends: Curve,
    cost: Curve,
    over: Curve,
    hold: float,
    held: tuple[float, float],
    opening: Curve | None = None,
    last: int = 0,
) -> tuple[Ints, Ints, float]:
    """The most likely chain where there are several manners of playing, each with prices of its own.

    Parameters
    ----------
    lengths : (intervals,)
        Frames of each interval.
    shift, prior, ends : (manners, intervals)
        How many frames before a beat its evidence lies; what the interval costs; and what it costs besides where a
        chain begins or ends with it. ``prior`` may be (frames, manners * intervals), too.
    cost : (manners, intervals, intervals)
        Price of going from an interval to another.
    over : (manners, manners)
        Price of going from a manner to another; the interval stays.

    The rest as of :func:`best_chain`. Returns frames, the manner of each, and the score; no frames where no chain is
    worth more than none.
    """
    opening = gain if opening is None else opening
    ends = ends.ravel()
    states = np.tile(lengths, len(cost)), prior.reshape(-1, ends.size), ends
    score = _scores(gain, opening, states[0], shift.ravel(), *states[1:], cost, over, hold, held)
    best = float((score[last:] - ends).max(initial=IMPOSSIBLE))
    if best <= IMPOSSIBLE / 2:
        none = np.zeros(0, dtype=np.int64)
        return none, none, 0.0
    chain = np.array(_traced(score, last, opening, *states, cost, over, hold, held)[::-1], dtype=np.int64)
    return chain[:, 0], chain[:, 1] // len(lengths), best
