"""The session as it sounds reshaped: its own clock, map and samples, made as they are asked for."""

from __future__ import annotations

import copy
import hashlib
from collections.abc import Hashable, Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Generic, TypeVar

import numpy as np
import orjson
from django.http import HttpRequest
from numpy.typing import NDArray

from core import audio
from core.audio import AudioInfo, Samples
from core.listening.attacks import Attacks
from core.reshaping.choice import Suggestion, attacks_to_keep, suggest_engine
from core.reshaping.engines import EngineName
from core.reshaping.hushing import Hushed
from core.reshaping.plan import Plan, Reshaping, plan
from core.reshaping.rendering import Piece, piece_samples, pieces
from core.reshaping.sources import FileSource, SampleSource, Together
from core.reshaping.warp import Warp
from core.tempomap import TempoMap
from studio.analysis.features import analysed, attacks, content_key
from studio.caches import remembered
from studio.library.models import Session, Track
from studio.reshaping.files import folder_of, is_ready, names_of
from studio.reshaping.wanted import wanted_of

if TYPE_CHECKING:
    from studio.desk.models import MapStep

Floats = NDArray[np.float64]
T = TypeVar("T")
#: Frames read at once where an engine goes through a piece.
_AHEAD = 1 << 16


@dataclass(frozen=True)
class Group:
    """Tracks that are stretched as one, by their keys, with all that their sound depends on."""

    key: str
    tracks: tuple[int, ...] = field(compare=False)
    warp: Warp = field(compare=False)
    engine: EngineName = field(compare=False)
    attacks: Floats = field(compare=False, repr=False)

    def __hash__(self) -> int:
        return hash(self.key)


@dataclass(frozen=True)
class Result:
    """A session reshaped. ``key`` names the result: equal where the sound is."""

    session: Session
    key: str
    wanted: Reshaping
    plan: Plan
    groups: tuple[Group, ...]
    tracks: dict[int, Track]
    infos: dict[int, AudioInfo]

    @property
    def map(self) -> TempoMap:
        return self.plan.map

    def group_of(self, track: int) -> Group:
        return next(g for g in self.groups if track in g.tracks)

    def version(self, track: int) -> str:
        """Names how a track looks and sounds; empty where that is as it was recorded."""
        group = self.group_of(track)
        hushed = any(h.track == track for h in self.wanted.hushes)
        return group.key if hushed or not group.warp.is_identity else ""

    def frames(self, track: Track) -> int:
        """Length of a track's result at the session's rate."""
        rate = self.session.sample_rate
        return max(0, round(float(self.group_of(track.pk).warp.to_target(self.infos[track.pk].frames / rate)) * rate))

    @property
    def seconds(self) -> float:
        return max((self.frames(t) / self.session.sample_rate for t in self.tracks.values()), default=0.0)

    def source(self, tracks: tuple[int, ...], ahead: int = 0) -> Together:
        """The recordings of some tracks, hushed; files are read ``ahead`` frames at a time."""
        sources: list[SampleSource] = []
        for pk in tracks:
            hushes = tuple(h for h in self.wanted.hushes if h.track == pk)
            sources.append(Hushed(FileSource(self.tracks[pk].playback, ahead, self.infos[pk]), hushes))
        return Together(sources)

    def read(self, track: Track, first: int, count: int) -> Samples:
        """Samples ``first`` to ``first + count`` of a track's result; silence past its end."""
        if is_ready(self.session, self.key):
            return audio.read(folder_of(self.session, self.key) / names_of(self.tracks)[track.pk], first, count)
        group = self.group_of(track.pk)
        out = np.zeros((count, track.channels), dtype=np.float32)
        at = sum(self.tracks[pk].channels for pk in group.tracks[: group.tracks.index(track.pk)])
        own = slice(at, at + track.channels)
        last = min(first + count, self.frames(track))
        for piece in pieces(group.warp, self.session.sample_rate, group.attacks, first, last):
            a, b = max(first, piece.start), min(last, piece.stop)
            if not piece.moves:
                start = int(piece.source[0]) + a - piece.start
                out[a - first : b - first] = self.source((track.pk,)).read(start, start + b - a)
                continue
            made = _piece(group, Place(piece.start, piece), self)
            out[a - first : b - first] = made[a - piece.start : b - piece.start, own]
        return out

    def attacks(self, track: Track) -> Attacks:
        """A track's attacks where they come to lie."""
        found = attacks(track)
        return Attacks(self.group_of(track.pk).warp.to_target(found.seconds), found.strength, found.sharpness)


@dataclass(frozen=True)
class Place:
    """A piece of a group's result by where it begins."""

    start: int
    piece: Piece = field(compare=False, repr=False)

    def __hash__(self) -> int:
        return hash(self.start)


class _Uncompared(Generic[T]):
    """Lets a cached function have an argument that its other arguments name already."""

    def __init__(self, value: T) -> None:
        self.value = value

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Uncompared)

    def __hash__(self) -> int:
        return 0


def _piece(group: Group, place: Place, result: Result) -> Samples:
    return _made(group, place, _Uncompared(result))


@remembered(192)  # up to five seconds each, some 1 MB a channel
def _made(group: Group, place: Place, result: _Uncompared[Result]) -> Samples:
    source = result.value.source(group.tracks, ahead=_AHEAD)
    return np.concatenate(list(piece_samples(source, place.piece, group.engine, group.attacks)))


def keep_seconds(session: Session) -> list[tuple[float, float]]:
    """Holds and music without beats."""
    return list(session.marks.filter(kind__in=("hold", "free")).values_list("start", "end"))


def plan_of(session: Session, wanted: Reshaping) -> Plan:
    """The plan that follows from what is wanted. Raises :class:`core.errors.InputError`."""
    tracks = session.tracks.filter(analysed=True)
    found = {t.pk: attacks(t) for t in tracks}
    return plan(wanted, session.tempo_map, found, keep_seconds(session), session.seconds)


def result_of(session: Session) -> Result | None:
    """The session reshaped; None where nothing is wanted, or there is no map."""
    wanted = wanted_of(session)
    if wanted.is_empty or session.step is None:
        return None
    depends = (session.pk, session.step.pk, repr(wanted), content_key(session), tuple(keep_seconds(session)))
    return _result(depends, _Uncompared((session, wanted)))


@remembered(4)  # some 100 kB each
def _result(_depends: Hashable, given: _Uncompared[tuple[Session, Reshaping]]) -> Result:
    session, wanted = given.value
    made = plan_of(session, wanted)
    tracks = {t.pk: t for t in session.tracks.filter(analysed=True).select_related("session")}
    groups = tuple(_groups(wanted, made, tracks, content_key(session)))
    key = _digest([[g.key for g in groups], made.map.to_json()])
    infos = {pk: audio.inspect(t.playback) for pk, t in tracks.items()}
    return Result(session, key, wanted, made, groups, tracks, infos)


def _groups(wanted: Reshaping, made: Plan, tracks: dict[int, Track], content: Hashable) -> Iterator[Group]:
    left = list(tracks)
    while left:
        members = tuple(t for t in wanted.together(left[:1]) if t in left)
        left = [t for t in left if t not in members]
        engine = engine_of(wanted, [tracks[m] for m in members]).engine
        kept = attacks_to_keep([attacks(tracks[m]) for m in members], engine)
        warp = made.warps[members[0]]
        hushes = [[h.track, h.start, h.end, h.gain_db, h.fade] for h in wanted.hushes if h.track in members]
        key = _digest([members, engine, warp.to_json(), hushes, str(content)])
        yield Group(key, members, warp, engine, kept)


def engine_of(wanted: Reshaping, members: list[Track]) -> Suggestion:
    """The engine of tracks that are stretched as one: the engineer's choice, or what suits them."""
    for track in members:
        if track.pk in wanted.engines:
            return Suggestion(wanted.engines[track.pk], "your choice")
    return suggested_engine(tuple(members), tuple(t.features_version for t in members))


@remembered(64)  # a few words each
def suggested_engine(members: tuple[Track, ...], _version: Hashable) -> Suggestion:
    found = [a for a in map(analysed, members) if a is not None]
    return suggest_engine(found) if found else Suggestion("blend", "not analysed yet")


def _digest(data: object) -> str:
    return hashlib.blake2b(orjson.dumps(data, default=list), digest_size=12).hexdigest()


# ---- requests on the result's clock


def in_clock(request: HttpRequest, session: Session) -> Result | None:
    """The result where a request asks for its clock (``clock`` in the address); None for the recording's.

    From then on ``session.step`` has the result's map, so that all that rides the bars does so there.
    """
    if not request.GET.get("clock"):
        return None
    result = result_of(session)
    if result is not None:
        put_on_clock(session, result)
    return result


def put_on_clock(session: Session, result: Result) -> None:
    """From now on the session's step has the result's map; nothing is stored."""
    if session.step is not None:
        session.step = _step_with(session.step, result)


def _step_with(step: MapStep, result: Result) -> MapStep:
    """A step that is stored nowhere, with a key of its own: caches tell it from the recording's."""
    other = copy.copy(step)
    other.pk = -(int(result.key[:12], 16) or 1)
    other.clock = result.plan.clock
    other.remember(result.map)
    return other
