"""A stretch that is searched between the beats around it: their tempo says how it goes on and what it leads to."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from core.tracking.decoder import NEVER
from core.tracking.parameters import ANOTHER_LEVEL
from core.tracking.semi_markov import Curve, Ints

#: Chosen on the fitting set (docs/measured.md): beats on either side that are heard along.
BESIDE = 8
#: How far the tempo may lie from that around a stretch, as a factor either way.
TEMPO_RANGE = 1.6
#: Finds a chain (frames) through a curve, with frames that have to be beats.
Search = Callable[[Curve, Ints], Ints]


def neighbouring_beats(beats: Ints, last: int, interval: float, most: int) -> tuple[Ints, Ints]:
    """The beats before and after a stretch that go on at its level.

    ``beats``: frames from the stretch's first, rising; ``last``: the stretch's last frame; ``interval``: frames between
    beats that are expected in it; ``most``: beats on either side.
    """
    before, after = beats[beats < 0][-most:], beats[beats > last][:most]

    def going_on(steps: Ints) -> int:
        """How many steps away from the stretch are at its level."""
        others = np.abs(np.log(steps / interval)) > np.log(ANOTHER_LEVEL)
        return int(others.argmax()) if others.any() else len(steps)

    leading = going_on(np.diff([*before, 0])[::-1])
    return before[len(before) - leading :], after[: going_on(np.diff([last, *after]))]


def search_between(search: Search, curve: Curve, pins: Ints, before: Ints, after: Ints) -> Ints:
    """What a search finds in a stretch between known beats.

    Parameters
    ----------
    curve : (frames,)
        The stretch alone; its first and last frame are beats.
    pins : int64
        Frames of the stretch that have to be beats.
    before, after : int64
        Beats on either side, in frames from the stretch's first (:func:`neighbouring_beats`).

    Returns the chain inside, in frames from the stretch's first. Where none fits to the beats around, what the search
    finds without them.
    """
    begin = int(before[0]) if len(before) else 0
    end = int(after[-1]) + 1 if len(after) else len(curve)
    known = np.concatenate([before, pins, after]) - begin
    wide = np.full(end - begin, NEVER)
    wide[-begin : len(curve) - begin] = curve
    wide[np.concatenate([before, after]) - begin] = 0.0
    chain = search(wide, known)
    if len(chain) and np.isin(known, chain).all():
        chain = chain + begin
        return chain[(chain >= 0) & (chain < len(curve))]
    return search(curve, pins)
