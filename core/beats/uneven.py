"""Bars of five or seven quick pulses: whether a take has them, and how its players group them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from core.beats import bars
from core.beats.decoder import decode
from core.beats.hypothesis import USUAL_RANGE
from core.beats.scene import Scene
from core.beats.tempo import Ints, candidates
from core.listening.spectrum import FRAME_RATE
from core.tempomap import Meter

#: Pulses are this much quicker than the quickest beats, at least and at most so many a minute (common practice).
QUICKER, QUICK, QUICKEST = 1.1, 198.0, 340.0
#: Felt beats a minute of such meters where the engineer says nothing (common practice).
FELT = (70.0, 180.0)
#: The usual ways to group them (common practice), likeliest first.
GROUPS: dict[int, Sequence[tuple[int, ...]]] = {5: ((3, 2), (2, 3)), 7: ((2, 2, 3), (3, 2, 2), (2, 3, 2))}
#: How alike bars have to be, in standard deviations, and how little every other number of pulses may be so.
ALIKE, OTHERS = 0.15, 0.65


def bar_of_pulses(scene: Scene, fastest: float = USUAL_RANGE[1]) -> tuple[int, float] | None:
    """Five or seven, and the pulses a minute, where what is played comes round after so many quick pulses and after no
    other number but its multiples; else None. An even bar repeats at even distances above all. ``fastest``: the
    quickest beats that are expected, a minute."""
    quick = QUICK if fastest == USUAL_RANGE[1] else QUICKER * fastest
    for home in candidates(scene.curve, quick, QUICKEST) if quick < QUICKEST else ():
        if not quick <= home <= QUICKEST:
            continue
        pulses, _ = decode(scene.curve, home / 1.3, home * 1.3, home)
        pace = float(60 * FRAME_RATE / np.median(np.diff(pulses))) if len(pulses) > 40 else 0.0
        if not quick < pace < QUICKEST:
            continue
        alike = bars.repetition(scene.mix, pulses)
        for count in GROUPS:
            rest = [alike[k] for k in range(2, 14) if k % count]
            if alike[count] > ALIKE and alike[2 * count] > ALIKE and max(rest) < OTHERS * alike[count]:
                return count, pace
    return None


def grouped(scene: Scene, pulses: Ints, downbeats: Ints, count: int) -> Meter:
    """The meter whose felt beats are struck hardest. ``pulses``: frames; ``downbeats``: which of them open a bar."""
    wide = np.max([np.roll(scene.curve, k) for k in (-2, -1, 0, 1, 2)], axis=0)
    strength = wide[np.clip(pulses, 0, len(wide) - 1)]
    whole = downbeats[downbeats + count <= len(pulses)]
    usual = strength[whole[:, None] + np.arange(count)].mean(axis=0)

    def struck(groups: tuple[int, ...]) -> float:
        return float(usual[np.cumsum((0, *groups[:-1]))].mean())

    return Meter(count, 8, max(GROUPS[count], key=struck))
