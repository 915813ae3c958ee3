"""What tells whether bar lines stand on the right beat: how clearly the beats they stand on sound like downbeats."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.tracking.bars import BarDivision, usual_beats
from core.tracking.parameters import BARS_IN_WINDOW

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Bars of so many felt beats and more are rare.
_RARE = 5


def evidence_gaps(downbeats: Ints, beats: Ints, evidence: Floats) -> Floats:
    """By how much the downbeats' evidence exceeds that of each other beat of the bar, in nats.

    ``downbeats``: indices of the beats that open a bar; ``beats``: how many each bar should have. One gap less than the
    usual bar has beats.
    """
    own, usual = evidence[downbeats].mean(), int(np.bincount(beats).argmax())
    others = [(downbeats + by)[(by < beats) & (downbeats + by < len(evidence))] for by in range(1, usual)]
    return np.array([own - (evidence[o].mean() if len(o) else -np.inf) for o in others])


def line_features(gaps: Floats) -> dict[str, float]:
    """What tells whether all bar lines are right: the ``gap`` to the other beat that sounds most like a downbeat, and
    to the ``next`` one, in nats. ``gaps``: from :func:`evidence_gaps`, one at least."""
    two = np.sort(gaps)[:2]
    return {"gap": float(two[0]), "next": float(two[-1])}


def length_features(division: BarDivision, evidence: Floats) -> dict[str, float]:
    """What tells whether bars have the right number of beats: the ``margin`` to the likeliest other number, in nats;
    the natural logarithm of how many ``bars`` there are; the ``next`` gap of :func:`line_features`; whether the other
    number is ``unrelated``, neither half nor double (1 or 0); and whether the number is ``rare`` (1 or 0), so that much
    must have spoken for it."""
    beats, downs = division.beats, division.downbeats
    other = other_length(division)
    gaps = evidence_gaps(downs, usual_beats(downs, beats), evidence)
    return {
        "margin": division.scores[beats] - division.scores[other],
        "bars": float(np.log(len(downs))),
        "next": line_features(gaps)["next"],
        "unrelated": float(other not in (2 * beats, beats / 2)),
        "rare": float(beats >= _RARE),
    }


def other_length(division: BarDivision) -> int:
    """The likeliest other number of beats a bar."""
    others = {beats: score for beats, score in division.scores.items() if beats != division.beats}
    return max(others, key=lambda beats: others[beats])


@dataclass(frozen=True)
class Window:
    """Bars ``first`` to before ``last`` (numbers of downbeats), ``gaps`` within them, and the ``features`` that tell
    whether their bar lines are right."""

    first: int
    last: int
    gaps: Floats
    features: dict[str, float]


def windows(downbeats: Ints, main: int, evidence: Floats) -> Iterator[Window]:
    """All :data:`core.tracking.parameters.BARS_IN_WINDOW` bars in a row.

    A few bars alone can mislead: one chord that is held over a bar line is enough. So the run of equal bars around them
    counts, too: its two gaps (``run`` and ``next``, see :func:`line_features`) and the natural logarithm of its number
    of ``bars``. ``main``: the usual number of beats a bar.
    """
    beats = usual_beats(downbeats, main)
    run = _runs(downbeats, beats)
    around = {}
    for k in np.unique(run).tolist():
        inside = run == k
        of = line_features(evidence_gaps(downbeats[inside], beats[inside], evidence))
        around[k] = {"run": of["gap"], "next": of["next"], "bars": float(np.log(np.count_nonzero(inside)))}
    for k in range(len(downbeats) - BARS_IN_WINDOW + 1):
        inside = slice(k, k + BARS_IN_WINDOW)
        gaps = evidence_gaps(downbeats[inside], beats[inside], evidence)
        features = {"gap": float(gaps.min()), **around[int(run[k + BARS_IN_WINDOW // 2])]}
        yield Window(k, k + BARS_IN_WINDOW, gaps, features)


def _runs(downbeats: Ints, beats: Ints) -> Ints:
    """Which run of equal bars each bar is in, counted from 0. A bar that has not its ``beats`` is a run by itself."""
    odd = np.diff(downbeats, append=downbeats[-1] + beats[-1]) != beats
    new = (beats[1:] != beats[:-1]) | odd[:-1]
    return np.cumsum(odd | np.concatenate([[False], new]))
