"""The most likely chain of a known number of beats between two fixed ends: what "these are four bars" asks for.

The model is that of :mod:`core.beats.decoder`; as the count is known, it is part of the state and the optimum exact.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from core.beats.decoder import Leash, prices

Curve = NDArray[np.float64]
Ints = NDArray[np.int64]

#: How freely tempo moves where an engineer has counted: slow-downs and holds are what is counted by hand.
COUNTED = Leash(change=0.3, hold=1.5)
#: How far the tempo may lie from the stretch's average, as a factor either way.
STRAY = 1.8
#: How long a held beat may be against the average; any tempo may follow it.
HELD = (1.4, 5.0)
#: How many beats the chain may run ahead of even beats or behind them.
AWAY = 4
_NEVER = -1e18


@njit(cache=True, nogil=True)
def _decode(gain: np.ndarray, beats: int, shortest: int, home: np.ndarray, change: float, hold: float) -> np.ndarray:
    """Viterbi over (number of the beat, frame, interval), from frame 0 to the last; all -1 where no chain fits.

    Back pointers: the index of the interval before, or -1 after a held beat.
    """
    last, m = len(gain) - 1, len(home)
    mean = last / beats
    width = int(2 * AWAY * mean) + 3
    start = np.empty(beats + 1, dtype=np.int64)  # the first frame at which each beat may lie
    for k in range(beats + 1):
        start[k] = max(0, int((k - AWAY) * mean) - 1)
    cost = prices(shortest, m, change)
    back = np.zeros((beats + 1, width, m), dtype=np.int16)
    best_at = np.zeros((beats + 1, width), dtype=np.int16)  # the interval with which each beat is likeliest
    held_for = np.zeros((beats + 1, width), dtype=np.int64)
    old, top = np.full((width, m), _NEVER), np.full(width, _NEVER)
    for k in range(1, beats + 1):
        new, new_top = np.full((width, m), _NEVER), np.full(width, _NEVER)
        for x in range(width):
            t = start[k] + x
            if t < k * shortest or t > last - (beats - k) * shortest:
                continue
            after_hold = _NEVER
            for held in range(int(HELD[0] * mean), int(HELD[1] * mean) + 1):
                u = t - held - start[k - 1]
                if u < 0:
                    break
                if u < width and top[u] - hold > after_hold:
                    after_hold, held_for[k, x] = top[u] - hold, held
            for i in range(m):
                u = t - shortest - i - start[k - 1]
                best, came = after_hold, -1
                if k == 1 and t == shortest + i:
                    best, came = gain[0], 0
                elif k > 1 and 0 <= u < width:
                    for j in range(m):
                        if old[u, j] - cost[i, j] > best:
                            best, came = old[u, j] - cost[i, j], j
                if best > _NEVER / 2:
                    new[x, i] = best + gain[t] - home[i]
                    back[k, x, i] = came
            best_at[k, x] = np.argmax(new[x])
            new_top[x] = new[x, best_at[k, x]]
        old, top = new, new_top
    chain = np.full(beats + 1, -1, dtype=np.int64)
    t = last
    if top[t - start[beats]] < _NEVER / 2:
        return chain
    i = best_at[beats, t - start[beats]]
    for k in range(beats, 0, -1):
        chain[k] = t
        x = t - start[k]
        if back[k, x, i] < 0:
            t -= held_for[k, x]
            i = best_at[k - 1, t - start[k - 1]]
        else:
            t, i = t - shortest - i, back[k, x, i]
    chain[0] = t
    return chain


def decode_counted(curve: Curve, beats: int, leash: Leash = COUNTED, pins: Ints | None = None) -> Ints:
    """The best chain of ``beats`` beats from the first frame of ``curve`` to its last: ``beats + 1`` frames.

    ``pins``: frames that have to be beats. Returns no frames where no chain of so many fits.
    """
    mean = (len(curve) - 1) / beats
    shortest, longest = max(1, int(mean / STRAY)), int(mean * STRAY) + 1
    gain = curve.copy()
    if pins is not None and len(pins):
        gain[pins] += 1e6
    intervals = np.arange(shortest, longest + 1)
    home = 0.15 * (np.log(intervals / mean) / np.log(1.25)) ** 2
    chain = _decode(gain, beats, shortest, home, leash.change, leash.hold)
    return chain if chain[0] == 0 else np.zeros(0, dtype=np.int64)
