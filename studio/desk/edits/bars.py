"""Edits of bars: which beat is beat 1, bar numbers, meters, bars joined and split, a stretch of n bars."""

from contextlib import suppress
from typing import Any

from core.tempomap import Meter, TempoMap
from core.tempomap import edits as core
from core.tempomap.counting import renumber
from core.tempomap.edits import EditError
from core.tempomap.position import words_at
from core.tempomap.splice import bars_between
from core.tracking.context import NoBeats
from core.tracking.redetect import redetect
from studio.analysis.features import context
from studio.desk.edits.arguments import snap_to_attack
from studio.library.models import Session


def downbeat(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    by = int(params["by"])
    return core.shift_downbeat(tempo_map, by), f"Downbeat {abs(by)} {'later' if by > 0 else 'earlier'}"


def one(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    """Call a beat "one": the nearest shift of all bars that puts a bar line there."""
    beat = int(params["beat"])
    found = tempo_map.beats(beat, beat)
    count, into = tempo_map.meters.meter_at(int(found.bar[0])).beats, int(found.beat[0]) - 1
    if into == 0:
        raise EditError("This beat is one already.")
    name = f"Beat one moved to {words_at(tempo_map, beat)}"
    by = into if into <= count / 2 and tempo_map.beats().index[0] <= 0 else into - count
    try:
        return core.shift_downbeat(tempo_map, by), name
    except EditError:
        return core.shift_downbeat(tempo_map, into), name


def number(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    beat, bar = int(params["beat"]), int(params["bar"])
    return renumber(tempo_map, beat, bar), f"{words_at(tempo_map, beat)} is bar {bar} now".capitalize()


def meter(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    wanted = read_meter(params["meter"])
    bar, only = int(params["bar"]), bool(params.get("only"))
    where = f"bar {bar} only" if only else f"from bar {bar}"
    return core.set_meter(tempo_map, bar, wanted, only), f"{wanted.felt} {where}"


def read_meter(text: object) -> Meter:
    try:
        return Meter.parse(str(text))
    except ValueError as e:
        raise EditError(str(e)) from None


def count(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    """This bar has so many beats; only this one."""
    bar, beats = int(params["bar"]), int(params["beats"])
    usual = tempo_map.meters.meter_at(bar)
    if not 1 <= beats <= 16:
        raise EditError("A bar has 1 to 16 beats.")
    group = usual.groups[0]
    wanted = Meter(beats * group, usual.denominator, (group,) * beats)
    return core.set_meter(tempo_map, bar, wanted, only=True), f"Bar {bar} has {beats} beat{'s' * (beats != 1)}"


def split(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    beat = int(params["beat"])
    return core.split_bar(tempo_map, beat), f"A bar starts at {words_at(tempo_map, beat)}"


def join(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    bar = int(params["bar"])
    return core.join_bars(tempo_map, bar), f"Joined bars {bar} and {bar + 1}"


def are_bars(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    """The chosen stretch is n bars: its ends become pinned bar lines, its beats are found between them."""
    bars = int(params["bars"])
    a, b = (snap_to_attack(session, float(x), 0.03) for x in params["stretch"])
    edited = bars_between(tempo_map, a, b, bars)
    first, last = (round(float(edited.beat_index_at(t))) for t in (a, b))
    # where none are detected the beats stay even: the engineer's count holds either way
    with suppress(EditError, NoBeats):
        edited = redetect(context(session), edited, first, last, last - first)
    bpm = 60 * (last - first) / (b - a)
    return edited, f"{bars} bar{'s' * (bars != 1)} at {bpm:.1f} from {words_at(edited, first)}"
