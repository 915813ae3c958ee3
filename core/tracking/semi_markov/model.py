"""The prices of the model: what an interval costs, and what a change from one interval to the next."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

Curve = NDArray[np.float64]
Ints = NDArray[np.int64]

#: The score of what cannot be.
IMPOSSIBLE = -1e18
#: Price, in units of a full attack, of an interval 25 % from the usual one; it grows with the square of the logarithm.
_PRIOR, _PRIOR_UNIT = 0.15, np.log(1.25)
#: The change of interval (as a logarithm) up to which the price grows with its square, from there on evenly.
_DRIFT = 0.1


def tempo_prior(intervals: NDArray[np.float64] | NDArray[np.int64], usual: float) -> Curve:
    """What each interval costs beside a ``usual`` one, both in the same unit; in units of a full attack."""
    return np.asarray(_PRIOR * (np.log(intervals / usual) / _PRIOR_UNIT) ** 2)


def change_costs(before: NDArray[np.float64], after: NDArray[np.float64], change: float) -> Curve:
    """What each change from an interval ``before`` to the one ``after`` costs; as in :func:`transition_costs`."""
    r = np.abs(np.log(after / before))
    return np.asarray(change * np.where(r < _DRIFT, (r / _DRIFT) ** 2, 2 * r / _DRIFT - 1))


@njit(cache=True, nogil=True)
def transition_costs(shortest: int, count: int, change: float) -> NDArray[Any]:
    """Cost ``(to, from)`` of going from one interval to another, for ``count`` intervals from ``shortest`` frames on.

    Huber's loss of the logarithm of their ratio: small drift is nearly free, a sudden new tempo dear but possible.
    ``change``: the price of a 10 % change.
    """
    cost = np.empty((count, count))
    for i in range(count):
        for j in range(count):
            r = abs(np.log((shortest + i) / (shortest + j)))
            cost[i, j] = change * (r * r / (_DRIFT * _DRIFT) if r < _DRIFT else 2 * r / _DRIFT - 1)
    return cost


@njit(cache=True, nogil=True)
def neighbours(shortest: int, count: int, ratio: float) -> NDArray[Any]:
    """For each interval the first and the last (exclusive) of those that may stand beside it: at most ``ratio`` times
    as long or as short; the same both ways."""
    out = np.empty((count, 2), dtype=np.int64)
    for i in range(count):
        out[i, 0], out[i, 1] = count, 0
        for j in range(count):
            longer, shorter = max(shortest + i, shortest + j), min(shortest + i, shortest + j)
            if longer <= ratio * shorter:
                out[i, 0], out[i, 1] = min(out[i, 0], j), j + 1
    return out
