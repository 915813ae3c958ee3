"""What a warp costs: how far it stretches where, and which attacks it moves."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.reshaping.rendering import JUMP
from core.reshaping.warp import Warp

Floats = NDArray[np.float64]

#: Stretches outside of these are to be listened to (common practice).
GENTLE = (0.8, 1.25)
#: Seconds: an attack that moves farther counts as moved.
_MOVED = 0.030


@dataclass(frozen=True)
class Place:
    """A piece of the recording from ``start`` to ``end`` (seconds) that becomes ``stretch`` times as long."""

    start: float
    end: float
    stretch: float

    @property
    def warns(self) -> bool:
        return not GENTLE[0] <= self.stretch <= GENTLE[1]


@dataclass(frozen=True)
class Cost:
    """``places``: pieces with one stretch each, in time; ``worst``: those that change most, the worst first;
    ``moved``: attacks moved more than 30 ms against what is around them; ``largest``: the stretch farthest from one."""

    places: tuple[Place, ...]
    worst: tuple[Place, ...]
    moved: int
    largest: float


def cost(warp: Warp, attacks: Floats, seconds: float, worst: int = 5, around: Warp | None = None) -> Cost:
    """What ``warp`` does to a recording of ``seconds`` with these attacks; ``around``: what the whole take does."""
    source = np.unique(np.clip(np.concatenate([[0.0], warp.source_sec, [seconds]]), 0.0, max(seconds, 1e-9)))
    if len(source) < 2:
        return Cost((), (), 0, 1.0)
    stretch = np.diff(warp.to_target(source)) / np.diff(source)
    # where the result jumps nothing is stretched
    places = tuple(
        Place(float(a), float(b), float(s))
        for a, b, s in zip(source, source[1:], stretch, strict=False)
        if 1 / JUMP <= s <= JUMP
    )
    order = sorted(places, key=lambda p: -abs(np.log(p.stretch)))
    expected = around.to_target(attacks) if around else attacks
    moved = int((np.abs(warp.to_target(attacks) - expected) > _MOVED).sum()) if len(attacks) else 0
    return Cost(places, tuple(order[:worst]), moved, order[0].stretch)
