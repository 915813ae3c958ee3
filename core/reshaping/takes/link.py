"""Which stretches of two takes belong together, what happens between them, and the warp that follows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from core.listening.track import AnalysedTrack
from core.reshaping.conform import shared_beats
from core.reshaping.takes.attack_pairs import exact, nearest
from core.reshaping.warp import Warp
from core.tempomap import TempoMap

Floats = NDArray[np.float64]

#: What happens at a gap; empty: not decided yet.
AtGap = Literal["", "jump", "stretch"]


@dataclass(frozen=True)
class Gap:
    """A place where two takes do not belong together: ``leader`` and ``follower`` from, to in seconds. One of them has
    more than the other: another verse, a repeat, a break."""

    leader: tuple[float, float]
    follower: tuple[float, float]


@dataclass(frozen=True)
class Link:
    """``stretches``: each brings seconds of the follower to seconds of the leader, in order of time."""

    stretches: tuple[Warp, ...]

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """What lies between the stretches."""
        return tuple(
            Gap(
                (float(a.target_sec[-1]), float(b.target_sec[0])),
                (float(a.source_sec[-1]), float(b.source_sec[0])),
            )
            for a, b in pairwise(self.stretches)
        )

    def to_json(self) -> list[dict[str, Any]]:
        return [s.to_json() for s in self.stretches]

    @classmethod
    def from_json(cls, data: Sequence[dict[str, Any]]) -> Link:
        """Restore :meth:`to_json`. Raises :class:`core.reshaping.warp.WarpError`."""
        return cls(tuple(Warp.from_json(s) for s in data))


def link_by_bars(leader: TempoMap, follower: TempoMap, bars_later: int = 0) -> Link:
    """Bar ``b`` of the follower belongs to bar ``b + bars_later`` of the leader, as far as both have bars.

    Raises :class:`core.reshaping.warp.WarpError` where they share none.
    """
    return Link((Warp(*shared_beats(follower, leader, bars_later)),))


def made_exact(link: Link, leader: Sequence[AnalysedTrack], follower: Sequence[AnalysedTrack]) -> Link:
    """The same with attacks that both takes have brought together."""
    return Link(tuple(exact(s, leader, follower) for s in link.stretches))


def agreement(warp: Warp, leader: Sequence[AnalysedTrack], follower: Sequence[AnalysedTrack]) -> tuple[int, float]:
    """How many attacks of the follower's players come to lie within 50 ms of one of the leader's, and how far they are
    from it, in seconds (median; 0 where there are none)."""
    own, theirs = (
        np.sort(np.concatenate([t.attacks.seconds[t.attacks.strength >= _CLEAR] for t in take] or [np.zeros(0)]))
        for take in (follower, leader)
    )
    own = own[(own >= warp.source_sec[0]) & (own <= warp.source_sec[-1])]
    if not len(own) or not len(theirs):
        return 0, 0.0
    at = np.asarray(warp.to_target(own))
    off = np.abs(at - theirs[nearest(theirs, at)])
    near = off[off < _TOGETHER]
    return len(near), float(np.median(near)) if len(near) else 0.0


#: Seconds within which attacks of two takes are together; strength of those that are looked at.
_TOGETHER, _CLEAR = 0.05, 0.2


def follow(link: Link, gaps: Sequence[AtGap] = ()) -> Warp:
    """The follower on the leader's clock, as far as the first gap that was not decided; behind it keeps its pace.

    ``gaps``: what happens at each. ``jump``: the follower goes on with the next stretch when the leader is there; what
    only the leader has is silence, what only the follower has is left out (:data:`core.reshaping.rendering.JUMP`).
    ``stretch``: what it has there is made as long as the leader's.
    """
    source, target = [link.stretches[0].source_sec], [link.stretches[0].target_sec]
    for stretch, at_gap in zip(link.stretches[1:], gaps, strict=False):
        if not at_gap:
            break
        if at_gap == "stretch":
            source.append(stretch.source_sec)
            target.append(stretch.target_sec)
            continue
        last_source, last_target = float(source[-1][-1]), float(target[-1][-1])
        jump = _jump_anchors(last_source, last_target, float(stretch.source_sec[0]), float(stretch.target_sec[0]))
        source += [jump[0], stretch.source_sec]
        target += [jump[1], stretch.target_sec]
    joined = np.concatenate(source), np.concatenate(target)
    rising = np.concatenate(([True], (np.diff(joined[0]) > 0) & (np.diff(joined[1]) > 0)))
    return Warp(joined[0][rising], joined[1][rising])


#: Seconds of the shorter side of a jump.
_JUMP_SEC = 0.015


def _jump_anchors(source: float, target: float, source_to: float, target_to: float) -> tuple[Floats, Floats]:
    """Anchors inside a gap, after which the recording goes on elsewhere.

    As much as the shorter side has is played on from before the gap, at its own pace; then it jumps.
    """
    played = max(0.0, min(source_to - source, target_to - target) - _JUMP_SEC)
    if not played:
        return np.zeros(0), np.zeros(0)
    return np.array([source + played]), np.array([target + played])
