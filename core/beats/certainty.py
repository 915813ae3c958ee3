"""How sure each beat is: its posterior in the model that found it, and the attack that supports it.

Forward and backward passes over the same chains that the decoder searches (Rabiner 1989), with scores
taken as log-likelihoods.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter1d

from core.beats.decoder import HELD, Leash, prices
from core.beats.fitted import fitted
from core.beats.hypothesis import TempoHypothesis
from core.listening.spectrum import FRAME_RATE

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Nats a full attack is worth; fitted so that posteriors are about right (see docs/measured.md).
SHARPNESS = 4.0
_NEVER = -1e300


@njit(cache=True, nogil=True)
def _reaches(shortest: int, m: int) -> np.ndarray:
    """For each interval the first and the last (exclusive) of those that may stand beside it, the same both ways."""
    reach = np.empty((m, 2), dtype=np.int64)
    for i in range(m):
        reach[i, 0], reach[i, 1] = m, 0
        for j in range(m):
            if 4 * (shortest + j) <= 5 * (shortest + i) and 4 * (shortest + i) <= 5 * (shortest + j):
                reach[i, 0], reach[i, 1] = min(reach[i, 0], j), j + 1
    return reach


@njit(cache=True, nogil=True, fastmath={"reassoc", "contract"})
def _posterior(gain: np.ndarray, shortest: int, longest: int, home: np.ndarray, change: float) -> np.ndarray:
    """Forward and backward sums. Each frame keeps its sums as shares of its largest, and the logarithm of that: inside
    are products and sums only, whatever the length of the take (the scaling of Rabiner 1989, section V.A)."""
    n, m = len(gain), longest - shortest + 1
    weight, reach = np.exp(-prices(shortest, m, change)), _reaches(shortest, m)
    ahead, ahead_top = np.zeros((n, m)), np.zeros(n)
    new = np.empty(m)
    for t in range(n):
        new[:] = _NEVER
        for i in range(min(m, t - shortest + 1)):
            u = t - shortest - i
            total = 0.0
            for j in range(reach[i, 0], reach[i, 1]):
                total += ahead[u, j] * weight[i, j]
            # a chain may also begin with the beat at u
            opens, before = gain[u], ahead_top[u] + np.log(total) if total > 0 else _NEVER
            larger = max(opens, before)
            new[i] = larger + np.log(np.exp(opens - larger) + np.exp(before - larger)) + gain[t] - home[i]
        if t >= shortest:
            ahead_top[t] = new.max()
            ahead[t] = np.exp(new - ahead_top[t])
    behind, behind_top = np.ones((n, m)), np.zeros(n)
    after = np.zeros((n, m))  # the worth of what follows after each interval, as shares of the same largest
    for t in range(n - 1, -1, -1):
        top = 0.0
        count = min(m, n - t - shortest)
        for j in range(count):
            u = t + shortest + j
            new[j] = behind_top[u] + gain[u] - home[j] + np.log(behind[u, j])
            top = max(top, new[j])
        for j in range(count):
            after[t, j] = np.exp(new[j] - top)
        ends = np.exp(-top)  # or the chain ends here
        for i in range(m):
            total = ends
            for j in range(reach[i, 0], min(reach[i, 1], count)):
                total += after[t, j] * weight[j, i]
            behind[t, i] = total
        behind_top[t] = top
    everything, largest = 0.0, ahead_top.max()
    for t in range(shortest, n):
        everything += np.exp(ahead_top[t] - largest) * ahead[t].sum()
    whole = largest + np.log(everything)
    out = np.zeros(n)
    for t in range(n):
        inside = 0.0
        for i in range(m):
            inside += ahead[t, i] * behind[t, i]
        out[t] = inside * np.exp(ahead_top[t] + behind_top[t] - whole)
        # as the first beat of a chain
        out[t] += after[t].sum() * np.exp(behind_top[t] + gain[t] - whole)
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


#: What confidence is made of, and what each counts; fitted by ``training/fit.py`` (logistic regression).
CALIBRATION = fitted("confidence")
#: Beats on either side that are looked at with each.
_AROUND = 8


def numbers(
    likely: Floats,
    support: Floats,
    activation: Floats,
    seconds: Floats,
    best: TempoHypothesis,
    rivals: Sequence[TempoHypothesis],
) -> Floats:
    """What speaks for each beat, ``(beats, numbers)`` in the order of :data:`CALIBRATION`.

    ``likely``: posteriors; ``support``: of the beats' attacks; ``activation``: how likely beats are, 100 frames a
    second; ``seconds`` of the beats; ``best``: the hypothesis that they are, ``rivals``: the others.
    """
    p = np.clip(likely, 0.002, 0.998)
    on = _near(activation, seconds)
    middles = (seconds[1:] + seconds[:-1]) / 2
    off = _near(activation, np.append(middles, middles[-1] if len(middles) else seconds[-1]))
    size = min(2 * _AROUND + 1, max(1, len(seconds)))
    around, between = (uniform_filter1d(x, size, mode="nearest") for x in (on, off))
    whole = [1.0, margin(best, rivals), best.numbers.get("agreement", 0.0), float(best.grid is not None)]
    constant, ahead, agreed, even = (np.full(len(seconds), x) for x in whole)
    return np.column_stack([constant, np.log(p / (1 - p)), support, on, around, between, ahead, agreed, even])


def margin(best: TempoHypothesis, rivals: Sequence[TempoHypothesis]) -> float:
    """How much more convincing a hypothesis is than the next at another tempo, in nats, -2 to 6."""
    others = [r.score for r in rivals if abs(np.log(r.bpm / best.bpm)) > 0.08]
    return float(np.clip(best.score - max(others), -2, 6)) if others else 6.0


def _near(activation: Floats, seconds: Floats) -> Floats:
    """The highest activation within 30 ms of each time."""
    frames = np.round(seconds * FRAME_RATE).astype(np.int64)[:, None] + np.arange(-3, 4)
    return np.asarray(activation[np.clip(frames, 0, len(activation) - 1)].max(axis=1))


def confidence(numbers: Floats) -> Floats:
    """0 to 1 a beat: about that share of beats with this value is right within 70 ms."""
    return np.asarray(1 / (1 + np.exp(-(numbers @ np.array(list(CALIBRATION.values()))))))
