"""How likely a beat is at each frame, over all chains: forward and backward sums, scores taken as log-likelihoods."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from core.tracking.semi_markov.model import Curve, neighbours


@njit(cache=True, nogil=True, fastmath={"reassoc", "contract"})
def _sums(
    gain: NDArray[Any], shortest: int, prior: NDArray[Any], weight: NDArray[Any], reach: NDArray[Any]
) -> NDArray[Any]:
    """Each frame keeps its sums as shares of its largest, and the logarithm of that: inside are products and sums only,
    whatever the length of the take (the scaling of Rabiner 1989, section V.A)."""
    n, m = len(gain), len(prior)
    never = -1e300
    ahead, ahead_top = np.zeros((n, m)), np.zeros(n)
    new = np.empty(m)
    for t in range(n):
        new[:] = never
        for i in range(min(m, t - shortest + 1)):
            u = t - shortest - i
            total = 0.0
            for j in range(reach[i, 0], reach[i, 1]):
                total += ahead[u, j] * weight[i, j]
            # a chain may also begin with the beat at u
            opens, before = gain[u], ahead_top[u] + np.log(total) if total > 0 else never
            larger = max(opens, before)
            new[i] = larger + np.log(np.exp(opens - larger) + np.exp(before - larger)) + gain[t] - prior[i]
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
            new[j] = behind_top[u] + gain[u] - prior[j] + np.log(behind[u, j])
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


def beat_posterior(gain: Curve, shortest: int, prior: Curve, cost: Curve, ratio: float = np.inf) -> Curve:
    """The probability of a beat at each frame, ``(frames,)``, over all chains of two beats or more; none of them has a
    held beat. Parameters as of :func:`~core.tracking.semi_markov.best_chain.best_chain`, all in nats.

    Forward-backward algorithm (Rabiner 1989).
    """
    return np.asarray(_sums(gain, shortest, prior, np.exp(-cost), neighbours(shortest, len(prior), ratio)))
