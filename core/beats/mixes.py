"""A finished mix as the only track: its percussive part is the guide, where there is one worth the name."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from core.beats.fusion import GuideRank, Player, punch

#: The least punch of a part that guides: drums in a mix have 3.2 to 5.8, what is left of a piano 3.0, of a bow 1.
LEAST = 3.1
#: Longer takes are not separated, as that takes some 3 s a minute.
LONGEST = 1200.0
_ENDING = ", its percussive part"


def guided(mix: Player, part: Player) -> tuple[list[Player], Mapping[str, float]]:
    """Players and guide weights for a mix and its percussive part: the part says where beats are, the whole where bars
    and chords change. Without drums the mix stands alone."""
    if punch(part) < LEAST:
        return [mix], {}
    named = Player(mix.name + _ENDING, part.evidence, part.attacks, derived=True)
    return [mix, named], {named.name: 1.0}


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
