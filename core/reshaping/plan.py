"""What the engineer wants of a take's playing, as data, and the plan that follows from it: a warp for each track."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from core.errors import InputError
from core.listening.attacks import Attacks
from core.reshaping.conform import Conformed, steady, to_map, with_freedom
from core.reshaping.engines import EngineName
from core.reshaping.takes.link import AtGap, Link, follow
from core.reshaping.tighten import Moves, Tighten, moves, one_attack
from core.reshaping.warp import Warp, warped_map
from core.tempomap import TempoMap

Floats = NDArray[np.float64]

#: Attacks weaker than this are not pulled: they are ghost notes and bleed. Strength against the track's strong ones.
_PULLED = 0.2


@dataclass(frozen=True)
class Tightening:
    """``tracks`` (their keys) are pulled as one, by the attacks of the first. ``other``: the track whose attacks
    lead, if the target is a track."""

    key: int
    tracks: tuple[int, ...]
    how: Tighten
    other: int | None = None


@dataclass(frozen=True)
class AttackMove:
    """One attack (seconds of the recording) of ``tracks`` goes to ``target``; ``fences``: what stays, or None: just
    short of its neighbours."""

    key: int
    tracks: tuple[int, ...]
    attack: float
    target: float
    fences: tuple[float, float] | None = None


@dataclass(frozen=True)
class Placement:
    """``tracks`` start ``seconds`` later (or, below zero, earlier) than they were recorded: a recording that is laid
    under a song."""

    key: int
    tracks: tuple[int, ...]
    seconds: float


@dataclass(frozen=True)
class Following:
    """``tracks`` follow another track of the session, ``leader``: a second take that was recorded beside the first.
    ``link`` as plain data, and what happens at its ``gaps``."""

    key: int
    tracks: tuple[int, ...]
    leader: int
    link: list[dict[str, list[float]]]
    gaps: tuple[AtGap, ...] = ()


@dataclass(frozen=True)
class Hush:
    """A track is turned down by ``gain_db`` from ``start`` to ``end`` (seconds of the recording), with fades of
    ``fade`` seconds inside."""

    key: int
    track: int
    start: float
    end: float
    gain_db: float = -120.0
    fade: float = 0.03


ConformKind = Literal["average", "tempo", "freedom", "map", "take"]


@dataclass(frozen=True)
class ConformTo:
    """What the whole take goes to: its own ``average``, a ``tempo`` (``bpm`` felt beats a minute), a share of the
    ``freedom`` that was played (``drift``, ``jitter``), another ``map`` (its plain data; ``bars_later``, ``first``,
    ``last`` as in :func:`core.reshaping.conform.to_map`; ``map_name`` in words), or another ``take`` that leads
    (``link`` as plain data, what happens at its ``gaps``; ``map`` and ``map_name`` are the leader's).

    ``holds``: whether holds and music without beats keep their ``seconds``, or their bars like everything else.
    """

    kind: ConformKind
    bpm: float = 120.0
    drift: float = 0.0
    jitter: float = 0.0
    holds: Literal["seconds", "bars"] = "seconds"
    map: dict[str, object] | None = None
    map_name: str = ""
    bars_later: int = 0
    first: int | None = None
    last: int | None = None
    link: list[dict[str, list[float]]] | None = None
    gaps: tuple[AtGap, ...] = ()
    leader: int | None = None


@dataclass(frozen=True)
class Reshaping:
    """All that was asked for. ``groups``: tracks that move and are stretched as one, so that they stay in phase;
    ``engines``: chosen by the engineer, by track."""

    tightenings: tuple[Tightening, ...] = ()
    attack_moves: tuple[AttackMove, ...] = ()
    placements: tuple[Placement, ...] = ()
    followings: tuple[Following, ...] = ()
    hushes: tuple[Hush, ...] = ()
    conform: ConformTo | None = None
    groups: tuple[tuple[int, ...], ...] = ()
    engines: dict[int, EngineName] = field(default_factory=dict)

    @property
    def is_empty(self) -> bool:
        """Whether the result is the recording."""
        return not (self._rows or self.conform)

    @property
    def _rows(self) -> tuple[Placement | Following | Tightening | AttackMove | Hush, ...]:
        """All that is wanted of single tracks."""
        return (*self.placements, *self.followings, *self.tightenings, *self.attack_moves, *self.hushes)

    def together(self, tracks: Sequence[int]) -> tuple[int, ...]:
        """The tracks, and those of their groups."""
        more = [t for g in self.groups if set(g) & set(tracks) for t in g]
        return tuple(dict.fromkeys([*tracks, *more]))

    def next_key(self) -> int:
        return 1 + max((row.key for row in self._rows), default=0)

    def without(self, key: int) -> Reshaping:
        """The same without the row of this key."""
        return replace(
            self,
            placements=tuple(p for p in self.placements if p.key != key),
            followings=tuple(f for f in self.followings if f.key != key),
            tightenings=tuple(t for t in self.tightenings if t.key != key),
            attack_moves=tuple(m for m in self.attack_moves if m.key != key),
            hushes=tuple(h for h in self.hushes if h.key != key),
        )


@dataclass(frozen=True)
class Plan:
    """``warps``: for each track; ``conformed``: what all go to, or None; ``map``: the map of the result; ``moves``: of
    each tightening by its key; ``fences``: of each attack that is moved alone, by its key."""

    warps: dict[int, Warp]
    conformed: Conformed | None
    map: TempoMap
    moves: dict[int, Moves]
    fences: dict[int, tuple[float, float]] = field(default_factory=dict)

    @property
    def clock(self) -> Warp:
        """From the recording's seconds to the result's, for what is tied to no track."""
        return self.conformed.warp if self.conformed else Warp.identity()


def plan(
    wanted: Reshaping,
    tempo_map: TempoMap,
    attacks: Mapping[int, Attacks],
    keep_seconds: Sequence[tuple[float, float]] = (),
    seconds: float | None = None,
) -> Plan:
    """The warps of all tracks.

    ``attacks`` by track; ``keep_seconds``: holds and music without beats; ``seconds``: length of the take. Each
    tightening acts on what those before it made. Raises :class:`core.errors.InputError`.
    """
    warps = {t: Warp.identity() for t in attacks}
    for placed in wanted.placements:
        for t in set(wanted.together(placed.tracks)) & set(warps):
            warps[t] = warps[t].shifted(placed.seconds)
    for following in wanted.followings:
        leads = warps.get(following.leader)
        if leads is None:  # the track was taken out
            continue
        warp = follow(Link.from_json(following.link), following.gaps)
        for t in set(wanted.together(following.tracks)) & set(warps):
            warps[t] = warp if leads.is_identity else warp.then(leads)
    found: dict[int, Moves] = {}
    fences: dict[int, tuple[float, float]] = {}
    for one in wanted.tightenings:
        tracks = [t for t in wanted.together(one.tracks) if t in warps]
        if not tracks:
            continue
        leader = next((t for t in one.tracks if t in warps), tracks[0])
        other = one.other
        others = _pulled(attacks[other], warps[other]) if other is not None and other in attacks else None
        made = moves(one.how, _pulled(attacks[leader], warps[leader]), tempo_map, others, seconds)
        found[one.key] = made
        if made.is_moved.any():
            _go_on(warps, tracks, made.warp())
    for single in wanted.attack_moves:
        tracks = [t for t in wanted.together(single.tracks) if t in warps]
        leaders = [t for t in single.tracks if t in warps and len(attacks[t])]
        if not leaders:
            continue
        own = _pulled(attacks[leaders[0]], warps[leaders[0]])
        warp, fences[single.key] = one_attack(own, single.attack, single.target, single.fences)
        _go_on(warps, tracks, warp)
    conformed = conform(wanted.conform, tempo_map, keep_seconds) if wanted.conform else None
    if conformed:
        warps = {t: conformed.warp if w.is_identity else w.then(conformed.warp) for t, w in warps.items()}
    return Plan(warps, conformed, conformed.map if conformed else tempo_map, found, fences)


def _go_on(warps: dict[int, Warp], tracks: Sequence[int], warp: Warp) -> None:
    for t in tracks:
        warps[t] = warp if warps[t].is_identity else warps[t].then(warp)


def _pulled(attacks: Attacks, warp: Warp) -> Floats:
    return warp.to_target(attacks.seconds[attacks.strength >= _PULLED])


def conform(to: ConformTo, tempo_map: TempoMap, keep_seconds: Sequence[tuple[float, float]] = ()) -> Conformed:
    """What a take with this map becomes. Raises as :mod:`core.reshaping.conform`."""
    kept = keep_seconds if to.holds == "seconds" else ()
    match to.kind:
        case "average":
            return steady(tempo_map, None, kept)
        case "tempo":
            return steady(tempo_map, to.bpm, kept)
        case "freedom":
            return with_freedom(tempo_map, to.drift, to.jitter, kept)
        case "map":
            if to.map is None:
                raise InputError("Choose the map that the take is to go to.")
            return to_map(tempo_map, TempoMap.from_json(dict(to.map)), to.bars_later, to.first, to.last)
        case "take":
            if not to.link:
                raise InputError("Link the take that leads first.")
            warp = follow(Link.from_json(to.link), to.gaps)
            return Conformed(warp, TempoMap.from_json(dict(to.map)) if to.map else warped_map(tempo_map, warp))
