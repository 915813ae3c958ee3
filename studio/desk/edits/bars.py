"""Edits of bars: which beat is one, which bar is which, meters, bars joined and split, a stretch of n bars."""

from contextlib import suppress

import numpy as np

from core.beats import NoBeats
from core.beats.resolve import resolve
from core.tempomap import Meter, MeterChange, Meters, TempoMap, reach
from core.tempomap import edits as core
from core.tempomap.edits import EditError
from studio.desk.edits.asked import place, snapped, stretch
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
    return reach.renumber(tempo_map, beat, bar), f"{place(tempo_map, beat)} is bar {bar} now".capitalize()


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
    if not 1 <= bars <= 400:
        raise EditError("A stretch is 1 to 400 bars.")
    a, b = (snapped(session, float(x), 0.03) for x in said["stretch"])
    first, _ = stretch(tempo_map, said)
    main = tempo_map.meters.meter_at(int(tempo_map.beats(first, first).bar[0]))
    n = bars * main.beats
    if not 0.1 < (b - a) / n < 6:
        raise EditError(f"{bars} bars in {b - a:.2f} s is no tempo anybody plays.")
    full = core.with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    gap = (b - a) / n / 2
    before, after = full.seconds < a - gap, full.seconds > b + gap
    inside = np.linspace(a, b, n + 1)
    # the stretch opens a bar: bars before it keep their numbers, the last of them takes what beats are left
    kept = int(before.sum())
    start = round(float(index[before][-1])) + 1 if kept else 0
    bar = int(full.meters.bars_at(full.meters.quarters_of_beat(start)))
    opening = round(float(full.meters.beat_of_quarters(full.meters.bar_quarters(bar))))
    meters = full.meters
    if opening != start:
        left = start - opening
        odd = Meter(left * main.groups[0], main.denominator, (main.groups[0],) * left)
        table = {c.bar: c.meter for c in meters.changes if c.bar < bar} | {bar: odd, bar + 1: main}
        table.setdefault(1, main)
        if bar < 1:
            raise EditError("Say first which beat is one; the stretch has to lie after it.")
        meters = Meters(tuple(MeterChange(x, m) for x, m in sorted(table.items())))
    counted = start + np.arange(n + 1)
    later = counted[-1] + 1 + np.arange(int(after.sum()))
    seconds = np.concatenate([full.seconds[before], inside, full.seconds[after]])
    pins = np.concatenate([core.pins_of(full)[before], np.zeros(n + 1, dtype=bool), core.pins_of(full)[after]])
    pins[[kept, kept + n]] = True
    places = meters.quarters_of_beat(np.concatenate([index[before], counted, later]))
    laid = TempoMap(seconds, places, meters, pins, tempo_map.lead_bpm, tempo_map.tail_bpm)
    with suppress(EditError, NoBeats):  # else even beats between the two ends: what was said holds, found or not
        laid = resolve(scene(session), laid, int(counted[0]), int(counted[-1]), n)
    return laid, f"{bars} bar{'s' * (bars != 1)} at {60 * n / (b - a):.1f} from {place(laid, int(counted[0]))}"
