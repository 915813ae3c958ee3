"""What the page asks for, read into changes of what is wanted. Values are those on screen: percent and milliseconds."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, TypeAdapter, ValidationError

from core.errors import InputError
from core.reshaping.engines import EngineName
from core.reshaping.plan import AttackMove, ConformTo, Hush, Placement, Reshaping, Tightening
from core.reshaping.takes.link import AtGap
from core.reshaping.tighten import Target, Tighten, place_of
from core.tempomap.note_grid import Grid
from studio.analysis.features import attacks
from studio.inputs import BadInput, Bar, Body, Key, Seconds, reason
from studio.library.models import Session

#: The note values on offer: what the page calls them, and what they are; "auto" is the coarsest that fits.
VALUES: dict[str, tuple[str, Grid | None]] = {
    "auto": ("automatic", None),
    "1/4": ("1/4", Grid(1.0)),
    "1/8": ("1/8", Grid(0.5)),
    "1/8T": ("1/8 triplets", Grid(0.5, triplet=True)),
    "1/16": ("1/16", Grid(0.25)),
    "1/16T": ("1/16 triplets", Grid(0.25, triplet=True)),
}


class AddTightening(Body):
    """Pull the attacks of a stretch; with ``key`` in place of an earlier one."""

    do: Literal["tighten"]
    key: Key | None = None
    tracks: list[Key] = Field(min_length=1, max_length=64)
    start: Seconds
    end: Seconds
    target: Target = "grid"
    other: Key | None = None
    value: Literal["auto", "1/4", "1/8", "1/8T", "1/16", "1/16T"] = "auto"
    swing: float = Field(50, ge=50, le=80)
    amount: float = Field(60, ge=0, le=100)
    within: float = Field(0, ge=0, le=500)
    beyond: float = Field(80, gt=0, le=2000)

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        grid = VALUES[self.value][1]
        if grid is not None and self.swing != 50:
            grid = replace(grid, swing=self.swing)
        how = Tighten(
            self.start, self.end, self.target, grid, self.amount / 100, self.within / 1000, self.beyond / 1000
        )
        if self.target == "track" and (self.other is None or self.other in self.tracks):
            raise InputError("Choose another track whose attacks lead.")
        old = next((t for t in wanted.tightenings if t.key == self.key), None)
        if old:
            how = replace(how, left_out=old.how.left_out, fences=old.how.fences)
        new = Tightening(old.key if old else wanted.next_key(), tuple(self.tracks), how, self.other)
        rows = tuple(new if t is old else t for t in wanted.tightenings) if old else (*wanted.tightenings, new)
        return replace(wanted, tightenings=rows), f"Tighten {_names(session, self.tracks)} by {self.amount:g} %"


class ChangeTightening(Body):
    """Another amount; or one attack (seconds) in or out of it, or a fence set or taken away."""

    do: Literal["amount", "attack", "fence"]
    key: Key
    amount: float = Field(60, ge=0, le=100)
    at: Seconds = 0.0

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        old = next((t for t in wanted.tightenings if t.key == self.key), None)
        if old is None:
            raise InputError("This was taken back in another window.")
        names = _names(session, old.tracks)
        if self.do == "amount":
            how, name = replace(old.how, amount=self.amount / 100), f"Tighten {names} by {self.amount:g} %"
        elif self.do == "attack":
            how = replace(old.how, left_out=_toggled(old.how.left_out, self.at))
            name = f"One attack of {names} {'left out' if len(how.left_out) > len(old.how.left_out) else 'in again'}"
        else:
            how = replace(old.how, fences=_toggled(old.how.fences, self.at))
            name = f"A fence on {names}"
        rows = tuple(replace(t, how=how) if t is old else t for t in wanted.tightenings)
        return replace(wanted, tightenings=rows), name


class MoveAttack(Body):
    """One attack (seconds) ``to`` another second, by so many milliseconds, or with neither to its place in the grid.
    An attack that was moved before is moved anew."""

    do: Literal["move"]
    track: Key
    attack: Seconds
    ms: float | None = Field(None, ge=-2000, le=2000)
    to: Seconds | None = None

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        target = self.to if self.to is not None else self.attack + (self.ms or 0) / 1000
        if self.to is None and self.ms is None:
            target = place_of(self.attack, session.tempo_map)
        old = next((m for m in wanted.attack_moves if self._is_same(m)), None)
        new = AttackMove(wanted.next_key(), (self.track,), self.attack, target, old.fences if old else None)
        ms = 1000 * (target - self.attack)
        name = f"One attack of {_names(session, [self.track])} by {ms:+.0f} ms"
        others = tuple(m for m in wanted.attack_moves if m is not old)
        return replace(wanted, attack_moves=(*others, new)), name

    def _is_same(self, move: AttackMove) -> bool:
        return move.tracks == (self.track,) and abs(move.attack - self.attack) < 1e-3


class MoveFences(Body):
    """What stays around an attack that is moved alone: seconds before and after it."""

    do: Literal["fences"]
    key: Key
    before: Seconds
    after: Seconds

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        old = next((m for m in wanted.attack_moves if m.key == self.key), None)
        if old is None:
            raise InputError("This was taken back in another window.")
        if not self.before < min(old.attack, old.target) < max(old.attack, old.target) < self.after:
            raise InputError("The attack, and where it goes, lie between its fences.")
        rows = tuple(replace(m, fences=(self.before, self.after)) if m is old else m for m in wanted.attack_moves)
        return replace(wanted, attack_moves=rows), f"Fences of one attack of {_names(session, old.tracks)}"


class AddHush(Body):
    """A stretch of a track turned down."""

    do: Literal["hush"]
    track: Key
    start: Seconds
    end: Seconds
    gain: float = Field(-120, ge=-120, le=0)
    fade: float = Field(30, ge=1, le=5000)

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        if not self.start < self.end:
            raise InputError("Choose a stretch first.")
        new = Hush(wanted.next_key(), self.track, self.start, self.end, self.gain, self.fade / 1000)
        return replace(wanted, hushes=(*wanted.hushes, new)), f"Hush {_names(session, [self.track])}"


class Place(Body):
    """A track's first clear attack at the line of a bar: a recording laid under a song."""

    do: Literal["place"]
    track: Key
    bar: Bar

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        track = session.tracks.filter(pk=self.track, analysed=True).first()
        found = attacks(track) if track else None
        clear = found.seconds[found.strength >= CLEAR] if found else np.zeros(0)
        if not len(clear):
            raise InputError("The track has no clear attack to put there.")
        low, high = session.tempo_map.bar_range
        if not low <= self.bar <= high:
            raise InputError(f"The map has bars {low} to {high}.")
        by = float(session.tempo_map.bar_seconds(self.bar)) - float(clear[0])
        tracks = wanted.together([self.track])
        others = tuple(p for p in wanted.placements if not set(p.tracks) & set(tracks))
        placed = Placement(wanted.next_key(), tracks, by)
        name = f"{_names(session, [self.track])} placed at bar {self.bar}"
        return replace(wanted, placements=(*others, placed)), name


#: An attack is clear from this strength on; the strong attacks of a track have 1.
CLEAR = 0.3


class Drop(Body):
    """Take one of the above back."""

    do: Literal["drop"]
    key: Key

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        return wanted.without(self.key), "Reshaping taken back"


class Conform(Body):
    """What the whole take goes to; ``kind`` none: nowhere."""

    do: Literal["conform"]
    kind: Literal["none", "average", "tempo", "freedom", "map"]
    bpm: float = Field(120, gt=0, le=2000)
    drift: float = Field(0, ge=0, le=100)
    jitter: float = Field(0, ge=0, le=100)
    holds: Literal["seconds", "bars"] = "seconds"
    session: Key | None = None
    bars_later: Bar = 0
    first: Bar | None = None
    last: Bar | None = None

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        if self.kind == "none":
            return replace(wanted, conform=None), "As played"
        if self.kind == "tempo":
            name = f"Conform to {self.bpm:g} bpm"
        elif self.kind == "freedom":
            name = f"Keep {self.drift:g} % of the drift, {self.jitter:g} % of the jitter"
        elif self.kind == "average":
            name = "Conform to the average tempo"
        other, title = None, ""
        if self.kind == "map":
            found = Session.objects.select_related("step").filter(pk=self.session or 0, step__isnull=False).first()
            if found is None:
                if wanted.conform is None or wanted.conform.map is None:
                    raise InputError("Choose another session that has a map.")
                other, title = wanted.conform.map, wanted.conform.map_name
            else:
                other, title = found.tempo_map.to_json(), found.title
            name = f"Conform to the map of {title}"
        to = ConformTo(
            self.kind,
            self.bpm,
            self.drift / 100,
            self.jitter / 100,
            self.holds,
            other,
            title,
            self.bars_later,
            self.first,
            self.last,
        )
        return replace(wanted, conform=to), name


class ConfirmGap(Body):
    """What happens at a place where the linked takes do not belong together; with ``key``: a track that follows."""

    do: Literal["gap"]
    key: Key | None = None
    gap: int = Field(ge=0)
    how: AtGap

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        name = f"Gap {self.gap + 1}: {self.how or 'open'}"
        if self.key is not None:
            old = next((f for f in wanted.followings if f.key == self.key), None)
            if old is None:
                raise InputError("This was taken back in another window.")
            new = replace(old, gaps=self._decided(old.gaps))
            rows = tuple(new if f is old else f for f in wanted.followings)
            return replace(wanted, followings=rows), name
        to = wanted.conform
        if to is None or to.kind != "take":
            raise InputError("The takes were linked anew in another window.")
        return replace(wanted, conform=replace(to, gaps=self._decided(to.gaps))), name

    def _decided(self, gaps: tuple[AtGap, ...]) -> tuple[AtGap, ...]:
        if self.gap >= len(gaps):
            raise InputError("The takes were linked anew in another window.")
        return tuple(self.how if k == self.gap else g for k, g in enumerate(gaps))


class ChooseEngine(Body):
    """How a track's samples are made; empty: what suits it."""

    do: Literal["engine"]
    track: Key
    engine: EngineName | Literal[""]

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        engines = {t: e for t, e in wanted.engines.items() if t not in wanted.together([self.track])}
        if self.engine:
            engines |= dict.fromkeys(wanted.together([self.track]), self.engine)
        name = f"{_names(session, [self.track])} is stretched {self.engine or 'as suits it'}"
        return replace(wanted, engines=engines), name


class SetGroup(Body):
    """Tracks that move as one; a track is in one group at most."""

    do: Literal["group"]
    tracks: list[Key] = Field(max_length=64)

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        rest = tuple(tuple(t for t in g if t not in self.tracks) for g in wanted.groups)
        groups = tuple(g for g in (*rest, tuple(dict.fromkeys(self.tracks))) if len(g) > 1)
        return replace(wanted, groups=groups), f"{_names(session, self.tracks)} move together"


Request = (
    AddTightening
    | ChangeTightening
    | MoveAttack
    | MoveFences
    | AddHush
    | Place
    | Drop
    | Conform
    | ConfirmGap
    | ChooseEngine
    | SetGroup
)
READER: TypeAdapter[Request] = TypeAdapter(Annotated[Request, Field(discriminator="do")])


def read_request(data: Any) -> Request:
    """Raises :class:`studio.inputs.BadInput`."""
    try:
        return READER.validate_python(data)
    except ValidationError as e:
        raise BadInput(reason(e)) from None


def _names(session: Session, tracks: list[int] | tuple[int, ...]) -> str:
    names = dict(session.tracks.values_list("pk", "name"))
    missing = [t for t in tracks if t not in names]
    if missing:
        raise InputError("A track was taken out in another window.")
    shown = [names[t] for t in tracks]
    return ", ".join(shown) if len(shown) < 4 else f"{shown[0]} and {len(shown) - 1} others"


def _toggled(values: tuple[float, ...], at: float) -> tuple[float, ...]:
    """``values`` without those within 1 ms of ``at``; if there are none, with ``at`` added."""
    kept = tuple(v for v in values if abs(v - at) > 1e-3)
    return kept if len(kept) < len(values) else tuple(sorted((*values, at)))
