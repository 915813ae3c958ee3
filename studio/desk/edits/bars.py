"""Edits of bars: which beat is one, which bar is which, meters, bars joined and split, a stretch of n bars."""

from contextlib import suppress

from core.beats import NoBeats
from core.beats.resolve import resolve
from core.tempomap import Meter
from core.tempomap import edits as core
from core.tempomap.counting import renumber
from core.tempomap.edits import EditError
from core.tempomap.splice import bars_between
from studio.desk.edits.asked import place, snapped
from studio.library.hearing import scene


def downbeat(session, tempo_map, said):
    by = int(said["by"])
    return core.shift_downbeat(tempo_map, by), f"Downbeat {abs(by)} {'later' if by > 0 else 'earlier'}"


def one(session, tempo_map, said):
    """Call a beat "one": the nearest shift of all bars that puts a bar line there."""
    beat = int(said["beat"])
    found = tempo_map.beats(beat, beat)
    count, into = tempo_map.meters.meter_at(int(found.bar[0])).beats, int(found.beat[0]) - 1
    if into == 0:
        raise EditError("This beat is one already.")
    name = f"Beat one moved to {place(tempo_map, beat)}"
    by = into if into <= count / 2 and tempo_map.beats().index[0] <= 0 else into - count
    try:
        return core.shift_downbeat(tempo_map, by), name
    except EditError:
        return core.shift_downbeat(tempo_map, into), name


def number(session, tempo_map, said):
    beat, bar = int(said["beat"]), int(said["bar"])
    return renumber(tempo_map, beat, bar), f"{place(tempo_map, beat)} is bar {bar} now".capitalize()


def meter(session, tempo_map, said):
    wanted = read_meter(said["meter"])
    bar, only = int(said["bar"]), bool(said.get("only"))
    where = f"bar {bar} only" if only else f"from bar {bar}"
    return core.set_meter(tempo_map, bar, wanted, only), f"{wanted.felt} {where}"


def read_meter(text) -> Meter:
    try:
        return Meter.parse(str(text))
    except ValueError as e:
        raise EditError(str(e)) from None


def count(session, tempo_map, said):
    """This bar has so many beats; only this one."""
    bar, beats = int(said["bar"]), int(said["beats"])
    usual = tempo_map.meters.meter_at(bar)
    if not 1 <= beats <= 16:
        raise EditError("A bar has 1 to 16 beats.")
    group = usual.groups[0]
    wanted = Meter(beats * group, usual.denominator, (group,) * beats)
    return core.set_meter(tempo_map, bar, wanted, only=True), f"Bar {bar} has {beats} beat{'s' * (beats != 1)}"


def split(session, tempo_map, said):
    beat = int(said["beat"])
    return core.split_bar(tempo_map, beat), f"A bar starts at {place(tempo_map, beat)}"


def join(session, tempo_map, said):
    bar = int(said["bar"])
    return core.join_bars(tempo_map, bar), f"Joined bars {bar} and {bar + 1}"


def are_bars(session, tempo_map, said):
    """The chosen stretch is n bars: its ends become pinned bar lines, its beats are found between them."""
    bars = int(said["bars"])
    a, b = (snapped(session, float(x), 0.03) for x in said["stretch"])
    laid = bars_between(tempo_map, a, b, bars)
    first, last = (round(float(laid.beat_index_at(t))) for t in (a, b))
    with suppress(EditError, NoBeats):  # else even beats between the two ends: what was said holds, found or not
        laid = resolve(scene(session), laid, first, last, last - first)
    bpm = 60 * (last - first) / (b - a)
    return laid, f"{bars} bar{'s' * (bars != 1)} at {bpm:.1f} from {place(laid, first)}"
