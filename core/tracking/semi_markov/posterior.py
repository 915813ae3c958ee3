"""How likely a beat is at each frame, over all chains: forward and backward sums, scores taken as log-likelihoods."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from core.tracking.semi_markov.model import Curve, neighbours


@njit(cache=True, nogil=True, fastmath={"reassoc", "contract"})
def _ahead(
    gain: NDArray[Any], shortest: int, prior: NDArray[Any], weight: NDArray[Any], reach: NDArray[Any]
) -> tuple[NDArray[Any], NDArray[Any]]:
    """The worth of all chains up to each frame by their last interval ``(frames, intervals)``, as shares of the frame's
    largest, and the logarithm of that ``(frames,)``: inside are products and sums only, whatever the length of the take
    (the scaling of Rabiner 1989, section V.A). ``weight``: by the interval before and the one after it."""
    n, m = len(gain), len(prior)
    least = 1e-300
    ahead, top = np.zeros((n, m)), np.full(n, -1e300)
    onward = np.zeros((n, m))  # the logarithm of what each interval that begins at the frame can build on
    new, total = np.empty(m), np.empty(m)
    for t in range(n):
        count = min(m, t - shortest + 1)
        if count > 0:
            for i in range(count):
                new[i] = onward[t - shortest - i, i] + gain[t] - prior[i]
            top[t] = new[:count].max()
            for i in range(count):
                ahead[t, i] = np.exp(new[i] - top[t])
        larger = max(gain[t], top[t])
        total[:] = max(least, np.exp(gain[t] - larger))  # a chain may also begin with the beat at t
        before = np.exp(top[t] - larger)
        for j in range(m):
            share = before * ahead[t, j]
            for i in range(reach[j, 0], reach[j, 1]):
                total[i] += share * weight[j, i]
        for i in range(m):
            onward[t, i] = larger + np.log(total[i])
    return ahead, top


@njit(cache=True, nogil=True, fastmath={"reassoc", "contract"})
def _behind(
    gain: NDArray[Any], shortest: int, prior: NDArray[Any], weight: NDArray[Any], reach: NDArray[Any]
) -> tuple[NDArray[Any], NDArray[Any], NDArray[Any]]:
    """The worth of all that may follow each frame by the interval before it ``(frames, intervals)``, as shares of the
    frame's largest; the logarithm of that ``(frames,)``; and the sum of these shares over what may follow a first beat
    ``(frames,)``. ``weight``: by the interval after and the one before it."""
    n, m = len(gain), len(prior)
    behind, top, first = np.ones((n, m)), np.zeros(n), np.zeros(n)
    new = np.empty(m)
    for t in range(n - 1, -1, -1):
        largest = 0.0
        count = min(m, n - t - shortest)
        for j in range(count):
            u = t + shortest + j
            new[j] = top[u] + gain[u] - prior[j] + np.log(behind[u, j])
            largest = max(largest, new[j])
        behind[t] = np.exp(-largest)  # or the chain ends here
        for j in range(count):
            after = np.exp(new[j] - largest)
            first[t] += after
            for i in range(reach[j, 0], reach[j, 1]):
                behind[t, i] += after * weight[j, i]
        top[t] = largest
    return behind, top, first


def beat_posterior(gain: Curve, shortest: int, prior: Curve, cost: Curve, ratio: float = np.inf) -> Curve:
    """The probability of a beat at each frame, ``(frames,)``, over all chains of two beats or more; none of them has a
    held beat. Parameters as of :func:`~core.tracking.semi_markov.best_chain.best_chain`, all in nats.

    Forward-backward algorithm (Rabiner 1989).
    """
    if len(gain) <= shortest:
        return np.zeros(len(gain))  # no chain has room
    weight, reach = np.exp(-cost), neighbours(shortest, len(prior), ratio)
    # at the same time: neither needs the other, and compiled loops do not hold the interpreter
    with ThreadPoolExecutor(1) as pool:
        pending = pool.submit(_behind, gain, shortest, prior, weight, reach)
        ahead, ahead_top = _ahead(gain, shortest, prior, np.ascontiguousarray(weight.T), reach)
        behind, behind_top, first = pending.result()
    largest = ahead_top.max()
    whole = largest + np.log((np.exp(ahead_top - largest) * ahead.sum(axis=1)).sum())
    inside = np.einsum("ti,ti->t", ahead, behind) * np.exp(ahead_top + behind_top - whole)
    # as the first beat of a chain
    return np.asarray(inside + first * np.exp(behind_top + gain - whole))
