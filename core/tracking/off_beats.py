"""Stretches that are played on the off-beats: the beats go on as before.

In a break only a guitar may answer between the beats; attacks and activation then both say that the beats lie there.
A chain that believes them holds a beat for one and a half on the way in and again on the way out, although the tempo
never changed. Musicians play off-beats for bars on end; they hardly ever drop half a beat twice (common practice).

The chain is looked for once more, with states in which the evidence for a beat lies half an interval before it. Only
where the first chain jumped by half a beat is the second one believed: in free playing a slow-down may take half a beat
as well, but over several beats.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import median_filter

from core.tracking.decoder import HELD
from core.tracking.parameters import STRICT, TransitionCosts
from core.tracking.semi_markov import best_manners, tempo_prior, transition_costs

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Intervals lie within this factor of the typical one, either way.
_RANGE = 1.3
#: Chosen: what it costs to go over to the off-beats, or back, as a share of a hold, so that both together cost one; and
#: what each beat there costs, in units of a full attack, so that a whole take never counts as off-beats.
_GOING_OVER, _EACH = 0.5, 0.1
#: An interval of so many usual ones jumps by half a beat: one and a half, two and a half, and how far from that.
_JUMPS, _NEAR = (1.5, 2.5), 0.15
#: The intervals around one that tell what is usual there.
_AROUND = 9


def keep_phase(curve: Floats, frames: Ints, pins: Ints | None = None, costs: TransitionCosts = STRICT) -> Ints:
    """The chain ``frames`` with its beats going on evenly through stretches that are played on the off-beats.

    ``curve``: what it was decoded on, 100 frames a second; ``pins``: frames that have to be beats, stretches with one
    inside stay as they are.
    """
    jumps = half_beat_jumps(frames)
    if not len(jumps):
        return frames
    steady, off = _with_off_beats(curve, frames, costs)
    common = np.intersect1d(frames, steady)
    edges = np.flatnonzero(np.diff(np.concatenate([[0], off.astype(int), [0]])))
    for first, last in zip(edges[::2], edges[1::2] - 1, strict=True):
        before, after = common[common <= steady[first]], common[common >= steady[last]]
        start = before[-1] if len(before) else -1
        end = after[0] if len(after) else len(curve)
        pinned = pins is not None and ((pins > start) & (pins < end)).any()
        if ((jumps > start) & (jumps <= end)).any() and not pinned:
            inside = steady[(steady > start) & (steady < end)]
            frames = np.concatenate([frames[frames <= start], inside, frames[frames >= end]])
    return frames


def half_beat_jumps(frames: Ints) -> Ints:
    """Frames of the beats that come half a beat late or early after a beat of one and a half or two and a half."""
    gaps = np.diff(frames).astype(np.float64)
    if len(gaps) < _AROUND:
        return np.zeros(0, dtype=np.int64)
    times = gaps / median_filter(gaps, _AROUND, mode="nearest")
    jumps = np.min([np.abs(times - j) for j in _JUMPS], axis=0) <= _NEAR
    return np.asarray(frames[1:][jumps])


def _with_off_beats(curve: Floats, frames: Ints, costs: TransitionCosts) -> tuple[Ints, NDArray[np.bool_]]:
    """The best chain near the tempo of ``frames`` that may read a stretch as off-beats, and which beats lie in one."""
    typical = float(np.median(np.diff(frames)))
    shortest, longest = max(2, int(typical / _RANGE)), int(typical * _RANGE) + 1
    intervals = np.arange(shortest, longest + 1)
    count, over = len(intervals), _GOING_OVER * costs.hold
    change = np.ascontiguousarray(transition_costs(shortest, count, costs.change).T)
    prior, off = tempo_prior(intervals, typical), np.array([[0], [1]])
    found, manner, _ = best_manners(
        gain=curve - costs.beat,
        lengths=intervals,
        shift=off * (intervals // 2),
        prior=prior + _EACH * off,
        ends=over * off + np.zeros(count),
        cost=np.stack([change, change]),
        over=np.array([[0, over], [over, 0]]),
        hold=costs.hold,
        held=HELD,
    )
    return found, manner == 1
