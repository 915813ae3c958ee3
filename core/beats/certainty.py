"""How sure each beat is: its posterior in the model that found it, and the attack that supports it.

Forward and backward passes over the same chains that the decoder searches (Rabiner 1989), with scores
taken as log-likelihoods.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from core.beats.decoder import HELD, Leash, prices
from core.listening.spectrum import FRAME_RATE

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Nats a full attack is worth; fitted so that posteriors are about right (see docs/measured.md).
SHARPNESS = 4.0
_NEVER = -1e300


@njit(cache=True, nogil=True)
def _logsum(a: float, b: float) -> float:
    if a < b:
        a, b = b, a
    return a if b < a - 40 else a + np.log1p(np.exp(b - a))


@njit(cache=True, nogil=True)
def _posterior(gain: np.ndarray, shortest: int, longest: int, home: np.ndarray, change: float) -> np.ndarray:
    n, m = len(gain), longest - shortest + 1
    cost = prices(shortest, m, change)
    reach = np.empty((m, 2), dtype=np.int64)
    for i in range(m):  # the same pairs of neighbours forwards and backwards
        reach[i, 0], reach[i, 1] = m, 0
        for j in range(m):
            if 4 * (shortest + j) <= 5 * (shortest + i) and 4 * (shortest + i) <= 5 * (shortest + j):
                reach[i, 0], reach[i, 1] = min(reach[i, 0], j), j + 1
    ahead = np.full((n, m), _NEVER)
    for t in range(n):
        for i in range(m):
            interval = shortest + i
            if t < interval:
                continue
            total = gain[t - interval]
            for j in range(reach[i, 0], reach[i, 1]):
                total = _logsum(total, ahead[t - interval, j] - cost[i, j])
            ahead[t, i] = total + gain[t] - home[i]
    behind = np.zeros((n, m))
    for t in range(n - 1, -1, -1):
        for i in range(m):
            total = 0.0
            for j in range(reach[i, 0], reach[i, 1]):
                u = t + shortest + j
                if u < n:
                    total = _logsum(total, behind[u, j] - cost[j, i] + gain[u] - home[j])
            behind[t, i] = total
    everything = _NEVER
    for t in range(n):
        for i in range(m):
            everything = _logsum(everything, ahead[t, i])
    out = np.zeros(n)
    for t in range(n):
        for i in range(m):
            out[t] += np.exp(min(0.0, ahead[t, i] + behind[t, i] - everything))
            u = t + shortest + i
            if u < n:  # as the first beat of a chain
                out[t] += np.exp(min(0.0, gain[t] + gain[u] - home[i] + behind[u, i] - everything))
    return out


def posterior(curve: Floats, frames: Ints, leash: Leash = Leash()) -> Floats:
    """For each beat the probability that the music has a beat within 40 ms of it, given the tempo level.

    A chain ends at a held beat and another begins after it.
    """
    gaps = np.diff(frames)
    typical = float(np.median(gaps))
    shortest, longest = int(typical / 1.3), int(typical * 1.3) + 1
    intervals = np.arange(shortest, longest + 1) / FRAME_RATE
    home = 0.15 * (np.log(intervals * FRAME_RATE / typical) / np.log(1.25)) ** 2
    held = np.flatnonzero(gaps[1:] > HELD[0] * gaps[:-1]) + 2
    parts = np.split(frames, held)
    out = []
    for k, part in enumerate(parts):
        lo = max(0, part[0] - longest, parts[k - 1][-1] + 1 if k else 0)
        hi = min(len(curve), part[-1] + longest, parts[k + 1][0] if k + 1 < len(parts) else len(curve))
        gain = SHARPNESS * (curve[lo:hi] - leash.price)
        found = _posterior(gain, shortest, longest, SHARPNESS * home, SHARPNESS * leash.change)
        sums = np.concatenate([[0.0], np.cumsum(found)])
        at = part - lo
        out.append(np.clip(sums[np.minimum(at + 5, len(found))] - sums[np.maximum(at - 4, 0)], 0.0, 1.0))
    return np.concatenate(out)


def music(likely: Floats) -> slice:
    """The beats between which there is music to count: applause or noise fits many chains, so that beats in it
    have small posteriors. ``likely``: posteriors a beat."""
    four = np.convolve(likely, np.ones(4) / 4, mode="valid")
    sure = np.flatnonzero(four > 0.5)
    if not len(sure) or sure[-1] - sure[0] < 4:
        return slice(0, len(likely))
    first, last = int(sure[0]), int(sure[-1]) + 3
    while last > first and likely[last] < 0.4:
        last -= 1
    while first < last and likely[first] < 0.4:
        first += 1
    return slice(first, last + 1)


def confidence(likely: Floats, support: Floats, heard: Floats) -> Floats:
    """0 to 1 a beat: about that share of beats with this value is right within 70 ms.

    ``likely``: posteriors; ``support``: of the beats' attacks; ``heard``: how sure the learned ear is of them.
    """
    p = np.clip(likely, 0.002, 0.998)
    score = CALIBRATION[0] + CALIBRATION[1] * np.log(p / (1 - p)) + CALIBRATION[2] * support + CALIBRATION[3] * heard
    return np.asarray(1 / (1 + np.exp(-score)))


#: Intercept, weights of the posterior's log-odds, of support and of the ear; fitted by logistic regression on the
#: practice performances, their mixes and subsets of their tracks (docs/measured.md).
CALIBRATION = (-0.25, 0.64, 0.64, 1.07)
