"""What the tracker looks at: the players, how they rank as guides, and what they say together.

Made once a take; counting, solving again between pins and looking for doubts all read the same scene.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from core.beats import bars, fusion
from core.beats.beat_activation import activation
from core.beats.fusion import GuideRank, Player

Floats = NDArray[np.float64]


#: How much the beat activation says against the attacks, and the height at which a beat that it is sure of stands.
ACTIVATION, BRIGHT = 0.85, 1.2
#: The same where the engineer has counted: there attacks tell more.
ACTIVATION_COUNTED = 0.2


class NoBeats(ValueError):
    """No beats could be found, in words for the engineer."""


@dataclass(frozen=True)
class Scene:
    """``players`` with at least a few attacks, their ``ranks`` in the same order, the fused attack ``curve``
    (100 frames a second) and everybody's evidence together as ``mix``. ``ear``: the beat activation, probabilities of
    a beat and of a downbeat, ``(frames, 2)``. ``pulse``: the curve and the activation, as one."""

    players: list[Player]
    ranks: list[GuideRank]
    curve: Floats
    mix: bars.Mix
    ear: Floats
    pulse: Floats

    def by_attacks(self) -> Scene:
        """The same without the activation, for pulses finer than beats: the network has learned to tell felt beats."""
        return replace(self, ear=np.zeros_like(self.ear), pulse=self.curve)

    def all_ranks(self, order: Sequence[str]) -> list[GuideRank]:
        """Ranks of all tracks by name, silent ones with weight 0."""
        by_name = {r.name: r for r in self.ranks}
        return [by_name.get(n, GuideRank(n, 0.0, 0.0, 0.0, "hardly an attack")) for n in order]


def pulse_of(curve: Floats, ear: Floats, activation: float = ACTIVATION) -> Floats:
    """What beats are found on, 100 frames a second: attacks, and how likely beats are, as one."""
    return (1 - activation) * curve + activation * BRIGHT * np.sqrt(ear[:, 0])


def look(players: Sequence[Player], guides: Mapping[str, float] | None = None) -> Scene:
    """The scene of a take; ``guides`` are weights by track name that take precedence. Raises :class:`NoBeats`."""
    heard = [p for p in players if len(p.attacks) >= 4]
    if not heard:
        raise NoBeats("No beats found: the tracks hold hardly an attack. Is this the right material?")
    ranks = fusion.rank(heard, guides)
    curve, mix = fusion.fuse(heard, ranks), bars.Mix.of(heard)
    # whom the engineer gives no weight is not asked for beats
    asked = [p for p, r in zip(heard, ranks, strict=True) if r.weight > 0 or not guides]
    ear = activation([(p.evidence.bands, p.evidence.pitches) for p in asked], len(curve))
    return Scene(heard, ranks, curve, mix, ear, pulse_of(curve, ear))
