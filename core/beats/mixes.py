"""A finished mix as the only track: its percussive part is the guide, where there is one worth the name."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from core.beats.fusion import GuideRank, Player, punch
from core.listening.attacks import Attacks

#: The least punch of a part that guides: drums in a mix have 3.2 to 5.8, what is left of a piano 3.0, of a bow 1.
LEAST = 3.1
#: Longer takes are not separated, as that takes some 3 s a minute.
LONGEST = 1200.0
#: How far separating moves the start of an attack, in seconds.
SMEARED = 0.02
_ENDING = ", its percussive part"


def guided(mix: Player, part: Player) -> tuple[list[Player], Mapping[str, float]]:
    """Players and guide weights for a mix and its percussive part: the part says where beats are, the whole where bars
    and chords change. Without drums the mix stands alone."""
    if punch(part) < LEAST:
        return [mix], {}
    named = Player(mix.name + _ENDING, part.evidence, _as_heard(part.attacks, mix.attacks))
    return [mix, named], {named.name: 1.0}


def _as_heard(part: Attacks, mix: Attacks) -> Attacks:
    """The part's attacks at the times at which the mix has them, as separating smears their starts a little."""
    if not len(mix) or not len(part):
        return part
    j = np.clip(np.searchsorted(mix.seconds, part.seconds), 1, max(1, len(mix) - 1))
    before, after = mix.seconds[j - 1], mix.seconds[np.minimum(j, len(mix) - 1)]
    near = np.where(part.seconds - before < after - part.seconds, before, after)
    moved = np.where(np.abs(near - part.seconds) < SMEARED, near, part.seconds)
    order = np.argsort(moved, kind="stable")
    return Attacks(moved[order], part.strength[order])


def ranks_of_tracks(ranks: Sequence[GuideRank]) -> list[GuideRank]:
    """Ranks by track: what is said of a percussive part is said of its mix."""
    parts = {r.name.removesuffix(_ENDING): r for r in ranks if r.name.endswith(_ENDING)}
    out = []
    for r in ranks:
        part = parts.get(r.name)
        if part:
            out.append(GuideRank(r.name, part.weight, part.clearness, part.regularity, f"{part.reason} in its drums"))
        elif not r.name.endswith(_ENDING):
            out.append(r)
    return out
