"""What the pane of two takes shows: who leads, what belongs together, and what only one of them has."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from core.reshaping.plan import ConformTo, Following
from core.reshaping.takes.link import AtGap, Gap, Link, follow
from core.tempomap import TempoMap
from core.tempomap.position import position_at
from studio.library.models import Session
from studio.reshaping.result import Result
from studio.reshaping.takes import agreement_of, link_of
from studio.reshaping.track_takes import agreement_of_tracks

#: Width of the picture of a link, and how many lines join its two takes.
_WIDTH, _LINES = 240, 40
#: Seconds of a gap that only one take has: the other has at most so much there.
_NOTHING = 2.0


def takes_context(session: Session, to: ConformTo | None, result: Result | None) -> dict[str, Any] | None:
    """The link that the session follows by; None where it follows no take."""
    link = link_of(to)
    if to is None or link is None:
        return None
    leader = Session.objects.filter(pk=to.leader or 0).first()
    leads = TempoMap.from_json(dict(to.map)) if to.map else None
    fits = agreement_of(session.pk, to.leader or 0, result.key if result else "")
    begins = float(result.plan.clock.to_target(0.0)) if result else 0.0
    return {
        **_link(link, to.gaps, leads, leader.seconds if leader else 0.0, session.seconds, fits, begins),
        "name": to.map_name,
        "leader": leader,
    }


def track_takes_context(session: Session, one: Following, names: dict[int, str], result: Result) -> dict[str, Any]:
    """A track that follows another one of the session."""
    link = Link.from_json(one.link)
    seconds = {t.pk: t.seconds for t in session.tracks.all()}
    fits = agreement_of_tracks(session.pk, one.key, result.key)
    leader_sec, follower_sec = (seconds.get(pk, 0.0) for pk in (one.leader, one.tracks[0]))
    begins = float(follow(link, one.gaps).to_target(0.0))
    return {
        **_link(link, one.gaps, session.tempo_map, leader_sec, follower_sec, fits, begins),
        "key": one.key,
        "names": ", ".join(names.get(t, "?") for t in one.tracks),
        "leads": names.get(one.leader, "?"),
    }


def _link(
    link: Link,
    gaps: Sequence[AtGap],
    leads: TempoMap | None,
    leader_sec: float,
    follower_sec: float,
    fits: tuple[int, float],
    begins: float,
) -> dict[str, Any]:
    """What is to know of a link. ``leads``: the map by which the leader's bars are told; ``fits``: attacks together,
    and how far they are off in seconds; ``begins``: where the follower's zero comes to lie, in seconds."""
    return {
        "picture": _picture(link, leader_sec, follower_sec),
        "gaps": [_gap(k, gap, how, leads) for k, (gap, how) in enumerate(zip(link.gaps, gaps, strict=False))],
        "together": fits[0],
        "off": 1000 * fits[1],
        "before_zero": max(0.0, -begins),
    }


def _gap(number: int, gap: Gap, how: AtGap, leads: TempoMap | None) -> dict[str, Any]:
    """A gap in words: who has how much there, and what a confirmed one does."""
    long, own = gap.leader[1] - gap.leader[0], gap.follower[1] - gap.follower[0]
    where = f"bar {position_at(leads, max(gap.leader[0], 0.0)).bar} of the leader" if leads else ""
    return {
        "number": number,
        "how": how,
        "stretch": long / own if own > 0.1 and 0.5 <= long / own <= 2 else None,
        "where": where,
        "start": gap.follower[0],
        "long": long,
        "own": own,
        "does": _does(long, own),
    }


def _does(long: float, own: float) -> str:
    if own > long:
        return f"leave out {own - long:.1f} s of what it has"
    if own < _NOTHING:
        return f"fall silent for {long - own:.1f} s"
    return f"play {own:.1f} s, then fall silent for {long - own:.1f} s"


def _picture(link: Link, leads: float, follows: float) -> dict[str, Any]:
    """Areas and lines between the leader (above) and the follower (below), on one scale."""
    whole = max(leads, follows, *(float(s.target_sec[-1]) for s in link.stretches), 1e-9)
    x = _WIDTH / whole
    areas, lines = [], []
    for s in link.stretches:
        a, b, c, d = (
            round(float(v) * x, 2) for v in (s.target_sec[0], s.target_sec[-1], s.source_sec[-1], s.source_sec[0])
        )
        areas.append(f"{a},0 {b},0 {c},40 {d},40")
        own = np.linspace(float(s.source_sec[0]), float(s.source_sec[-1]), max(2, round(_LINES * (b - a) / _WIDTH)))
        lines += [{"x1": round(float(s.to_target(t)) * x, 2), "x2": round(float(t) * x, 2)} for t in own]
    return {"areas": areas, "lines": lines, "leads": round(leads * x, 2), "follows": round(follows * x, 2)}
