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
def _decode(gain: np.ndarray, shortest: int, longest: int, home: np.ndarray, change: float, hold: float) -> tuple:
    """Viterbi over (frame, interval). ``gain`` is the worth of a beat at each frame.

    Back pointers: the index of the interval before; -1 opens the chain; below that a beat held for so many frames.
    """
    n, m = len(gain), longest - shortest + 1
    score = np.full((n, m), _NEVER)
    back = np.full((n, m), -1, dtype=np.int16)
    # for each interval the frames from which a held beat may come, best first, as a queue (a sliding maximum)
    ring = int(HELD[1] * longest) + 2
    queue = np.empty((m, ring), dtype=np.int32)
    first, last = np.zeros(m, dtype=np.int64), np.zeros(m, dtype=np.int64)
    cost = prices(shortest, m, change)
    reach = np.empty((m, 2), dtype=np.int64)
    for i in range(m):
        reach[i, 0] = max(0, int((shortest + i) / 1.7) - shortest)
        reach[i, 1] = min(m, int((shortest + i) * 1.7) - shortest + 1)
    for t in range(n):
        for i in range(m):
            interval = shortest + i
            # two beats open a chain: the one an interval ago and this one
            if t >= interval:
                best, came = gain[t - interval], -1
                for j in range(reach[i, 0], reach[i, 1]):
                    s = score[t - interval, j] - cost[i, j]
                    if s > best:
                        best, came = s, j
            else:
                continue
            total = best - home[i]
            newest, oldest = t - int(HELD[0] * interval), t - int(HELD[1] * interval)
            if newest >= 0:
                while last[i] > first[i] and score[queue[i, (last[i] - 1) % ring], i] <= score[newest, i]:
                    last[i] -= 1
                queue[i, last[i] % ring] = newest
                last[i] += 1
                while queue[i, first[i] % ring] < oldest:
                    first[i] += 1
                held = score[queue[i, first[i] % ring], i] - hold
                if held > total:
                    total, came = held, queue[i, first[i] % ring] - t
            score[t, i] = total + gain[t]
            back[t, i] = came
    return score, back


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
    score, back = _decode(gain, shortest, longest, home, leash.change, leash.hold)
    t, i = np.unravel_index(int(np.argmax(score)), score.shape)
    best = float(score[t, i])
    if best <= 0:
        return np.zeros(0, dtype=np.int64), 0.0
    chain = [int(t)]
    while True:
        before = int(back[t, i])
        if before < -1:
            t = t + before
            chain.append(int(t))
            continue
        t = t - (shortest + i)
        chain.append(int(t))
        if before < 0:
            break
        i = np.intp(before)
    return np.array(chain[::-1], dtype=np.int64), best
