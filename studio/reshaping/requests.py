"""What the page asks for, read into changes of what is wanted. Values are those on screen: percent and milliseconds."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from core.reshaping.engines import EngineName
from core.reshaping.plan import AttackMove, ConformTo, Hush, Reshaping, Tightening
from core.reshaping.tighten import Target, Tighten, place_of
from core.tempomap.note_grid import Grid
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
Key = int


class _Request(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class AddTightening(_Request):
    """Pull the attacks of a stretch; with ``key`` in place of an earlier one."""

    do: Literal["tighten"]
    key: Key | None = None
    tracks: list[int] = Field(min_length=1, max_length=64)
    start: float
    end: float
    target: Target = "grid"
    other: int | None = None
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
            raise ValueError("Choose another track whose attacks lead.")
        old = next((t for t in wanted.tightenings if t.key == self.key), None)
        if old:
            how = replace(how, left_out=old.how.left_out, fences=old.how.fences)
        new = Tightening(old.key if old else wanted.next_key(), tuple(self.tracks), how, self.other)
        rows = tuple(new if t is old else t for t in wanted.tightenings) if old else (*wanted.tightenings, new)
        return replace(wanted, tightenings=rows), f"Tighten {_names(session, self.tracks)} by {self.amount:g} %"


class ChangeTightening(_Request):
    """Another amount; or one attack (seconds) in or out of it, or a fence set or taken away."""

    do: Literal["amount", "attack", "fence"]
    key: Key
    amount: float = Field(60, ge=0, le=100)
    at: float = 0.0

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        old = next((t for t in wanted.tightenings if t.key == self.key), None)
        if old is None:
            raise ValueError("This was taken back in another window.")
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


class MoveAttack(_Request):
    """One attack (seconds) by so many milliseconds, or without a number to its place in the grid."""

    do: Literal["move"]
    track: int
    attack: float
    ms: float | None = Field(None, ge=-2000, le=2000)

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        target = place_of(self.attack, session.tempo_map) if self.ms is None else self.attack + self.ms / 1000
        new = AttackMove(wanted.next_key(), (self.track,), self.attack, target)
        ms = 1000 * (target - self.attack)
        name = f"One attack of {_names(session, [self.track])} by {ms:+.0f} ms"
        return replace(wanted, attack_moves=(*wanted.attack_moves, new)), name


class AddHush(_Request):
    """A stretch of a track turned down."""

    do: Literal["hush"]
    track: int
    start: float
    end: float
    gain: float = Field(-120, ge=-120, le=0)
    fade: float = Field(30, ge=1, le=5000)

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        if not self.start < self.end:
            raise ValueError("Choose a stretch first.")
        new = Hush(wanted.next_key(), self.track, self.start, self.end, self.gain, self.fade / 1000)
        return replace(wanted, hushes=(*wanted.hushes, new)), f"Hush {_names(session, [self.track])}"


class Drop(_Request):
    """Take one of the above back."""

    do: Literal["drop"]
    key: Key

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        return (
            replace(
                wanted,
                tightenings=tuple(t for t in wanted.tightenings if t.key != self.key),
                attack_moves=tuple(m for m in wanted.attack_moves if m.key != self.key),
                hushes=tuple(h for h in wanted.hushes if h.key != self.key),
            ),
            "Reshaping taken back",
        )


class Conform(_Request):
    """What the whole take goes to; ``kind`` none: nowhere."""

    do: Literal["conform"]
    kind: Literal["none", "average", "tempo", "freedom", "map"]
    bpm: float = 120
    drift: float = Field(0, ge=0, le=100)
    jitter: float = Field(0, ge=0, le=100)
    holds: Literal["seconds", "bars"] = "seconds"
    session: int | None = None
    bars_later: int = Field(0, ge=-9999, le=9999)
    first: int | None = None
    last: int | None = None

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
                    raise ValueError("Choose another session that has a map.")
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


class ChooseEngine(_Request):
    """How a track's samples are made; empty: what suits it."""

    do: Literal["engine"]
    track: int
    engine: EngineName | Literal[""]

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        engines = {t: e for t, e in wanted.engines.items() if t not in wanted.together([self.track])}
        if self.engine:
            engines |= dict.fromkeys(wanted.together([self.track]), self.engine)
        name = f"{_names(session, [self.track])} is stretched {self.engine or 'as suits it'}"
        return replace(wanted, engines=engines), name


class SetGroup(_Request):
    """Tracks that move as one; a track is in one group at most."""

    do: Literal["group"]
    tracks: list[int] = Field(max_length=64)

    def change(self, wanted: Reshaping, session: Session) -> tuple[Reshaping, str]:
        rest = tuple(tuple(t for t in g if t not in self.tracks) for g in wanted.groups)
        groups = tuple(g for g in (*rest, tuple(dict.fromkeys(self.tracks))) if len(g) > 1)
        return replace(wanted, groups=groups), f"{_names(session, self.tracks)} move together"


Request = AddTightening | ChangeTightening | MoveAttack | AddHush | Drop | Conform | ChooseEngine | SetGroup
READER: TypeAdapter[Request] = TypeAdapter(Annotated[Request, Field(discriminator="do")])


def read_request(data: Any) -> Request:
    """Raises :class:`pydantic.ValidationError`."""
    return READER.validate_python(data)


def _names(session: Session, tracks: list[int] | tuple[int, ...]) -> str:
    names = dict(session.tracks.values_list("pk", "name"))
    missing = [t for t in tracks if t not in names]
    if missing:
        raise ValueError("A track was taken out in another window.")
    shown = [names[t] for t in tracks]
    return ", ".join(shown) if len(shown) < 4 else f"{shown[0]} and {len(shown) - 1} others"


def _toggled(values: tuple[float, ...], at: float) -> tuple[float, ...]:
    """``values`` without those within 1 ms of ``at``; if there are none, with ``at`` added."""
    kept = tuple(v for v in values if abs(v - at) > 1e-3)
    return kept if len(kept) < len(values) else tuple(sorted((*values, at)))
