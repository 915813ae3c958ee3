"""The most likely chain of beats through a curve of attack strength.

A hidden semi-Markov view of the bar-pointer model (Whiteley, Cemgil and Godsill 2006) in its efficient
form (Krebs, Böck and Widmer 2015): tempo changes only at beats, so that all frames between two beats
fold into one step and the decoding over every beat interval is exact and quick.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from core.listening.spectrum import FRAME_RATE

Curve = NDArray[np.float64]
Ints = NDArray[np.int64]

_NEVER = -1e18


@dataclass(frozen=True)
class Leash:
    """How freely the tempo may move. ``change``: price of a 10 % change from one beat to the next, in
    units of a full attack; ``price``: what each beat costs, so that a chain does not run through silence; ``hold``:
    price of one long beat (:data:`HELD` times the others) after which the tempo is what it was.
    """

    change: float = 1.5
    price: float = 0.25
    hold: float = 3.0


#: How many times its neighbours a held beat may last.
HELD = (1.6, 4.0)


@njit(cache=True, nogil=True)
def prices(shortest: int, count: int, change: float) -> np.ndarray:
    """What going from one interval to another costs, for ``count`` intervals from ``shortest`` frames on.

    Huber: small drift is nearly free, a sudden new tempo dear but possible.
    """
    cost = np.empty((count, count))
    for i in range(count):
        for j in range(count):
            r = abs(np.log((shortest + i) / (shortest + j)))
            cost[i, j] = change * (r * r / 0.01 if r < 0.1 else 2 * r / 0.1 - 1)
    return cost


@njit(cache=True, nogil=True)
def _neighbours(shortest: int, m: int) -> np.ndarray:
    """For each interval the first and the last (exclusive) of those that may come before it."""
    reach = np.empty((m, 2), dtype=np.int64)
    for i in range(m):
        reach[i, 0] = max(0, int((shortest + i) / 1.7) - shortest)
        reach[i, 1] = min(m, int((shortest + i) * 1.7) - shortest + 1)
    return reach


@njit(cache=True, nogil=True)
def _decode(gain: np.ndarray, shortest: int, longest: int, home: np.ndarray, change: float, hold: float) -> np.ndarray:
    """Viterbi over (frame, interval): the score of the best chain that ends with a beat at a frame, so many frames
    after the one before. ``gain`` is the worth of a beat at each frame. How it came about is asked of the few states
    on the best chain afterwards (:func:`_traced`)."""
    n, m = len(gain), longest - shortest + 1
    score, onward = np.full((n, m), _NEVER), np.full((n, m), _NEVER)
    # for each interval the frames from which a held beat may come, best first, with their scores, as a queue (a sliding
    # maximum); its size is a power of two, so that places go round by a mask
    size = 1
    while size < int(HELD[1] * longest) + 2:
        size *= 2
    mask = size - 1
    frame, worth = np.empty((m, size), dtype=np.int32), np.empty((m, size))
    first, last = np.zeros(m, dtype=np.int64), np.zeros(m, dtype=np.int64)
    cost, reach = prices(shortest, m, change), _neighbours(shortest, m)
    for i in range(m):
        cost[i, : reach[i, 0]] = cost[i, reach[i, 1] :] = np.inf
    cost = np.ascontiguousarray(cost.T)
    for t in range(n):
        for i in range(min(m, t - shortest + 1)):
            interval = shortest + i
            # two beats open a chain: the one an interval ago and this one
            total = max(gain[t - interval], onward[t - interval, i]) - home[i]
            newest, oldest = t - int(HELD[0] * interval), t - int(HELD[1] * interval)
            if newest >= 0:
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
def _carry(score: np.ndarray, cost: np.ndarray, onward: np.ndarray) -> None:
    """What a beat after each interval is worth to the next interval, less the ``cost`` of the change. Side by side in
    the next interval, so that several are done at a time."""
    for j in range(len(score)):
        for i in range(len(onward)):
            now = score[j] - cost[j, i]
            onward[i] = now if now > onward[i] else onward[i]


@njit(cache=True, nogil=True)
def _traced(score: np.ndarray, gain: np.ndarray, shortest: int, home: np.ndarray, change: float, hold: float) -> list:
    """Frames of the best chain, last beat first."""
    m = score.shape[1]
    cost, reach = prices(shortest, m, change), _neighbours(shortest, m)
    best = np.argmax(score)
    t, i = best // m, best % m
    chain = [t]
    while True:
        interval = shortest + i
        u = t - interval
        came, total = -1, gain[u]
        for j in range(reach[i, 0], reach[i, 1]):
            if score[u, j] - cost[i, j] > total:
                came, total = j, score[u, j] - cost[i, j]
        total -= home[i]
        # of held beats that are worth the same the shortest
        for held in range(t - int(HELD[0] * interval), max(-1, t - int(HELD[1] * interval) - 1), -1):
            if score[held, i] - hold > total:
                came, total, u = i, score[held, i] - hold, held
        chain.append(u)
        if came < 0:
            return chain
        t, i = u, came


def decode(
    curve: Curve,
    slow_bpm: float,
    fast_bpm: float,
    home_bpm: float,
    leash: Leash = Leash(),
    pins: Ints | None = None,
) -> tuple[Ints, float]:
    """The best chain of beats: their frames, and its score (attack units).

    ``slow_bpm`` to ``fast_bpm`` bound every beat interval; straying from ``home_bpm`` costs a little.
    ``pins``: frames that have to be beats. Returns no frames where nothing is worth a chain.
    """
    shortest, longest = (round(60 * FRAME_RATE / b) for b in (fast_bpm, slow_bpm))
    gain = curve - leash.price
    if pins is not None and len(pins):
        gain = gain.copy()
        gain[pins] += 1e6
    intervals = np.arange(shortest, longest + 1) / FRAME_RATE
    home = 0.15 * (np.log(intervals * home_bpm / 60) / np.log(1.25)) ** 2
    score = _decode(gain, shortest, longest, home, leash.change, leash.hold)
    best = float(score.max())
    if best <= 0:
        return np.zeros(0, dtype=np.int64), 0.0
    chain = _traced(score, gain, shortest, home, leash.change, leash.hold)
    return np.array(chain[::-1], dtype=np.int64), best
