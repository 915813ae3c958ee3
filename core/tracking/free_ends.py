"""Free ends of a take that otherwise has one exact tempo: a free introduction, a slow-down at the end.

There the decoded beats leave the grid at another tempo, and the attacks are not on the grid either. Where only the
beats leave it, as in silence or where off-beats are taken for beats, the grid goes on.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

#: How many beats in a row have to be on the grid; how far off it each may be, and by how much that may change from the
#: first of them to the last, in beats.
_RUN, _ON_GRID, _TURN = 5, 0.1, 0.08
#: Slow-downs begin gently: the free beats begin with the first that is farther off the grid than this, in beats.
_BEGINS = 0.03
#: Free beats differ from the grid by more than this: their usual interval by a share, the last one's place in beats.
_OTHER_TEMPO, _AWAY = 0.04, 0.2
#: Where beats are free there are at least this many attacks a beat, and they agree with the grid at most this much,
#: where 1 is how well all attacks do.
_ATTACKS_A_BEAT, _STILL_ON_IT = 1.0, 0.4


def free_ends(
    chain: Floats, start: float, interval: float, attacks: Floats, on_grid: Floats, weights: Floats
) -> tuple[int, int]:
    """How many of the first and last beats of a ``chain`` (seconds) are free of the grid ``start + k * interval``.

    Parameters
    ----------
    attacks : (attacks,)
        Seconds, rising.
    on_grid : (attacks,)
        How well each agrees with the grid's subdivisions, where 1 is the mean of all.
    weights : (attacks,)
    """

    def free(count: int, inside: NDArray[np.bool_]) -> int:
        if not count or inside.sum() < _ATTACKS_A_BEAT * count or not weights[inside].any():
            return 0
        return count if np.average(on_grid[inside], weights=weights[inside]) <= _STILL_ON_IT else 0

    before = leaving(-chain[::-1], -start, interval)
    after = leaving(chain, start, interval)
    return free(before, attacks <= chain[max(0, before - 1)]), free(after, attacks >= chain[-max(1, after)])


def leaving(chain: Floats, start: float, interval: float) -> int:
    """How many of the last beats go on at another tempo. Those that keep the tempo beside the grid, as off-beats do, or
    that are too few to tell, do not."""
    position = (chain - start) / interval
    off = position - np.round(position)
    for k in range(len(chain) - 1, _RUN - 2, -1):
        run = off[k - _RUN + 1 : k + 1]
        if np.abs(run).max() <= _ON_GRID and abs(run[-1] - run[0]) <= _TURN:
            break
    else:
        return 0
    gaps = np.diff(position[k:])
    if len(gaps) < 2 or abs(float(gaps.sum()) - len(gaps)) < _AWAY:
        return 0
    if abs(float(np.median(gaps[1:])) - 1) <= _OTHER_TEMPO:
        return 0
    on = np.flatnonzero(np.abs(off[k - _RUN + 1 : k + 1]) <= _BEGINS)
    return len(gaps) + (_RUN - 1 - int(on[-1]) if len(on) else _RUN - 1)
