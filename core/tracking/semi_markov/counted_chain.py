"""The most likely chain of a known number of beats between two fixed ends. As the count is part of the state, the
optimum is exact."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from core.tracking.semi_markov.model import IMPOSSIBLE, Ints


@njit(cache=True, nogil=True)
def counted_chain(
    gain: NDArray[Any],
    beats: int,
    shortest: int,
    prior: NDArray[Any],
    cost: NDArray[Any],
    hold: float,
    held: tuple[int, int],
    away: int,
) -> tuple[Ints, float]:
    """Viterbi over (number of the beat, frame, interval), from frame 0 to the last.

    Parameters as of :func:`~core.tracking.semi_markov.best_chain.best_chain`, but for ``held``, which is in frames; any
    tempo may follow a held beat. ``away``: how many beats the chain may run ahead of even beats, or behind them.

    Returns ``beats + 1`` frames and their score; all -1 where no chain fits.
    """
    # back pointers: the index of the interval before, or -1 after a held beat
    last, m = len(gain) - 1, len(prior)
    mean = last / beats
    width = int(2 * away * mean) + 3
    start = np.empty(beats + 1, dtype=np.int64)  # the first frame at which each beat may lie
    for k in range(beats + 1):
        start[k] = max(0, int((k - away) * mean) - 1)
    backpointers = np.zeros((beats + 1, width, m), dtype=np.int16)
    best_at = np.zeros((beats + 1, width), dtype=np.int16)  # the interval with which each beat is likeliest
    held_for = np.zeros((beats + 1, width), dtype=np.int64)
    old, top = np.full((width, m), IMPOSSIBLE), np.full(width, IMPOSSIBLE)
    for k in range(1, beats + 1):
        new, new_top = np.full((width, m), IMPOSSIBLE), np.full(width, IMPOSSIBLE)
        for x in range(width):
            t = start[k] + x
            if t < k * shortest or t > last - (beats - k) * shortest:
                continue
            after_hold = IMPOSSIBLE
            for length in range(held[0], held[1] + 1):
                u = t - length - start[k - 1]
                if u < 0:
                    break
                if u < width and top[u] - hold > after_hold:
                    after_hold, held_for[k, x] = top[u] - hold, length
            for i in range(m):
                u = t - shortest - i - start[k - 1]
                best, backpointer = after_hold, -1
                if k == 1 and t == shortest + i:
                    best, backpointer = gain[0], 0
                elif k > 1 and 0 <= u < width:
                    for j in range(m):
                        if old[u, j] - cost[i, j] > best:
                            best, backpointer = old[u, j] - cost[i, j], j
                if best > IMPOSSIBLE / 2:
                    new[x, i] = best + gain[t] - prior[i]
                    backpointers[k, x, i] = backpointer
            best_at[k, x] = np.argmax(new[x])
            new_top[x] = new[x, best_at[k, x]]
        old, top = new, new_top
    chain = np.full(beats + 1, -1, dtype=np.int64)
    t = last
    score = top[t - start[beats]]
    if score < IMPOSSIBLE / 2:
        return chain, score
    i = best_at[beats, t - start[beats]]
    for k in range(beats, 0, -1):
        chain[k] = t
        x = t - start[k]
        if backpointers[k, x, i] < 0:
            t -= held_for[k, x]
            i = best_at[k - 1, t - start[k - 1]]
        else:
            t, i = t - shortest - i, backpointers[k, x, i]
    chain[0] = t
    return chain, score
