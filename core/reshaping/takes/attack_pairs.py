"""Attacks of two takes that are the same stroke of the music, and the anchors that they make."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import median_filter

from core.listening.guides import rank_guides
from core.listening.track import AnalysedTrack
from core.reshaping.warp import Warp

Floats = NDArray[np.float64]

#: Seconds: attacks of different players nearer than this are one stroke of the music.
_ONE_STROKE = 0.025
#: Strokes with less of a full attack are not paired.
_LEAST = 0.2
#: Seconds by which a pair may be off the path; and off what the pairs around it (so many) are.
_OFF_PATH, _OFF_OTHERS, _OTHERS = 0.09, 0.03, 9
#: Seconds between two anchors, least; a path without a pair for the second time keeps its own anchors.
_APART, _ALONE = 0.12, 1.5
#: Seconds by which anchors rise at least.
_LEAST_STEP = 0.01
#: How much longer or shorter two anchors may make what lies between them, beside the path, as a factor.
_BENT = 1.5


def strokes(tracks: Sequence[AnalysedTrack]) -> tuple[Floats, Floats]:
    """Seconds and weights of a take's strokes: attacks of all tracks that come together, at their centre of weight."""
    ranks = rank_guides(tracks)
    if not tracks or not sum(len(t.attacks) for t in tracks):
        return np.zeros(0), np.zeros(0)
    top = max(max(r.weight for r in ranks), 1e-9)
    seconds = np.concatenate([t.attacks.seconds for t in tracks])
    weight = np.concatenate([r.weight / top * t.attacks.strength for t, r in zip(tracks, ranks, strict=True)])
    order = np.argsort(seconds, kind="stable")
    seconds, weight = seconds[order], np.maximum(weight[order], 1e-9)
    group = np.cumsum(np.diff(seconds, prepend=-1.0) > _ONE_STROKE)
    total = np.bincount(group, weight)
    centre = np.bincount(group, weight * seconds) / np.maximum(total, 1e-12)
    return centre[1:], np.minimum(total[1:], 1.0)


def exact(path: Warp, leader: Sequence[AnalysedTrack], follower: Sequence[AnalysedTrack]) -> Warp:
    """A path from follower to leader that brings strokes of both together; where there are none it stays as it is."""
    theirs, their_weight = strokes(leader)
    own, own_weight = strokes(follower)
    inside = (own >= path.source_sec[0]) & (own <= path.source_sec[-1]) & (own_weight >= _LEAST)
    own, own_weight = own[inside], own_weight[inside]
    theirs = theirs[their_weight >= _LEAST]
    if len(own) < 2 or len(theirs) < 2:
        return path
    at = np.asarray(path.to_target(own))
    there = nearest(theirs, at)
    back = nearest(at, theirs)
    # each the other's nearest
    paired = (back[there] == np.arange(len(own))) & (np.abs(theirs[there] - at) < _OFF_PATH)
    own, there_sec, weight = own[paired], theirs[there[paired]], own_weight[paired]
    off = there_sec - at[paired]
    if len(own) < 2:
        return path
    alike = np.abs(off - median_filter(off, _OTHERS, mode="nearest")) < _OFF_OTHERS
    source, target = _spaced(own[alike], there_sec[alike], weight[alike], path)
    return _with_path(source, target, path)


def nearest(among: Floats, of: Floats) -> NDArray[np.int64]:
    """For each of ``of`` the index of the nearest of ``among``; both rising."""
    right = np.clip(np.searchsorted(among, of), 1, len(among) - 1)
    return np.where(of - among[right - 1] <= among[right] - of, right - 1, right).astype(np.int64)


def _spaced(source: Floats, target: Floats, weight: Floats, path: Warp) -> tuple[Floats, Floats]:
    """Pairs that lie apart and bend the path little; of two that do not go together the weaker goes."""
    kept: list[int] = []
    for k in range(len(source)):
        while kept and not _go_together(source[[kept[-1], k]], target[[kept[-1], k]], path):
            if weight[k] <= weight[kept[-1]]:
                break
            kept.pop()
        else:
            kept.append(k)
    return source[kept], target[kept]


def _go_together(source: Floats, target: Floats, path: Warp) -> bool:
    long, made = float(np.diff(source)[0]), float(np.diff(target)[0])
    expected = float(np.diff(path.to_target(source))[0])
    return min(long, made) >= _APART and 1 / _BENT < made / max(expected, 1e-9) < _BENT


def _with_path(source: Floats, target: Floats, path: Warp) -> Warp:
    """Pairs, and the path's own anchors where no pair is near, moved over by what the pairs around are off."""
    if not len(source):
        return path
    own = path.source_sec
    alone = np.abs(own[:, None] - source[None, :]).min(axis=1) > _ALONE
    off = np.interp(own[alone], source, target - np.asarray(path.to_target(source)))
    all_source = np.concatenate([source, own[alone]])
    all_target = np.concatenate([target, path.target_sec[alone] + off])
    order = np.argsort(all_source, kind="stable")
    all_source, all_target = all_source[order], all_target[order]
    steps = np.minimum(np.diff(all_source), np.diff(np.maximum.accumulate(all_target)))
    rising = np.concatenate(([True], steps > _LEAST_STEP))
    return Warp(all_source[rising], all_target[rising])
