"""Edits as the page asks for them: each names a core edit, its arguments, and what history calls it."""

from collections.abc import Callable

import numpy as np

from core.beats import NoBeats
from core.beats.resolve import resolve
from core.tempomap import Meter, TempoMap
from core.tempomap import edits as core
from core.tempomap.edits import EditError
from studio.library.hearing import attacks, scene
from studio.library.models import Session


def snapped(session: Session, seconds: float, reach: float, track: int | None = None) -> float:
    """The nearest attack within ``reach`` seconds, or the time itself. A named track's attacks go first."""
    heard = [t for t in session.tracks.all() if t.heard]
    for group in ([t for t in heard if t.pk == track], heard):
        best, distance = seconds, reach
        for t in group:
            times = attacks(t).seconds
            i = int(np.searchsorted(times, seconds))
            for j in (i - 1, i):
                if 0 <= j < len(times) and abs(times[j] - seconds) <= distance:
                    best, distance = float(times[j]), abs(float(times[j]) - seconds)
        if best != seconds:
            return best
    return seconds


def _place(tempo_map: TempoMap, beat: int) -> str:
    found = tempo_map.beats(beat, beat)
    return f"bar {found.bar[0]}" if found.beat[0] == 1 else f"bar {found.bar[0]} beat {found.beat[0]}"


def _target(session: Session, said: dict) -> float:
    """Where a drag points to: snapped unless a modifier key freed it."""
    seconds = float(said["to"])
    if said.get("free"):
        return seconds
    return snapped(session, seconds, min(0.25, float(said.get("reach", 0.03))), said.get("track"))


def _move(session, tempo_map, said):
    beat = int(said["beat"])
    to = _target(session, said)
    by = 1000 * (to - float(tempo_map.seconds_of_beat(beat)))
    return core.move_beat(tempo_map, beat, to), f"Moved {_place(tempo_map, beat)} by {by:+.1f} ms"


def _nudge(session, tempo_map, said):
    beat, by = int(said["beat"]), float(said["by"])
    to = float(tempo_map.seconds_of_beat(beat)) + by
    return core.move_beat(tempo_map, beat, to), f"Nudged {_place(tempo_map, beat)} by {1000 * by:+.0f} ms"


def _insert(session, tempo_map, said):
    to = _target(session, said)
    return core.insert_beat(tempo_map, to), f"Inserted a beat at {to:.3f} s"


def _remove(session, tempo_map, said):
    beat = int(said["beat"])
    return core.remove_beat(tempo_map, beat), f"Removed {_place(tempo_map, beat)}"


def _downbeat(session, tempo_map, said):
    by = int(said["by"])
    return core.shift_downbeat(tempo_map, by), f"Downbeat {abs(by)} {'later' if by > 0 else 'earlier'}"


def _one(session, tempo_map, said):
    """Call a beat "one": the nearest shift of all bars that puts a bar line there."""
    found = tempo_map.beats(int(said["beat"]), int(said["beat"]))
    count, into = tempo_map.meters.meter_at(int(found.bar[0])).beats, int(found.beat[0]) - 1
    if into == 0:
        raise EditError("This beat is one already.")
    by = into if into <= count / 2 and tempo_map.beats().index[0] <= 0 else into - count
    try:
        return core.shift_downbeat(tempo_map, by), f"Beat one moved to {_place(tempo_map, int(said['beat']))}"
    except EditError:
        return core.shift_downbeat(tempo_map, into), f"Beat one moved to {_place(tempo_map, int(said['beat']))}"


def _meter(session, tempo_map, said):
    try:
        meter = Meter.parse(str(said["meter"]))
    except ValueError as e:
        raise EditError(str(e)) from None
    bar, only = int(said["bar"]), bool(said.get("only"))
    where = f"bar {bar} only" if only else f"from bar {bar}"
    return core.set_meter(tempo_map, bar, meter, only), f"{meter.felt} {where}"


def _resolve(session, tempo_map, said):
    first, last = int(said["from"]), int(said["to"])
    try:
        solved = resolve(scene(session), tempo_map, first, last, said.get("beats"))
    except NoBeats as e:
        raise EditError(str(e)) from None
    return solved, f"Solved again from {_place(tempo_map, first)} to {_place(tempo_map, last)}"


def _alternative(session, tempo_map, said):
    offered = session.finding.get("alternatives", [])
    if not 0 <= int(said["number"]) < len(offered):
        raise EditError("That reading is no longer on offer; find the beats again.")
    chosen = offered[int(said["number"])]
    return TempoMap.from_json(chosen["map"]), f"Another reading: {chosen['name']}"


def _half(session, tempo_map, said):
    return core.half(tempo_map, int(said.get("offset", 0))), "Half the tempo"


def _double(session, tempo_map, said):
    return core.double(tempo_map), "Double the tempo"


EDITS: dict[str, Callable] = {
    "move": _move,
    "nudge": _nudge,
    "insert": _insert,
    "resolve": _resolve,
    "alternative": _alternative,
    "remove": _remove,
    "downbeat": _downbeat,
    "one": _one,
    "meter": _meter,
    "half": _half,
    "double": _double,
}


def apply(session: Session, tempo_map: TempoMap, said: dict) -> tuple[TempoMap, str]:
    """The edited map and the step's name. Raises :class:`EditError`."""
    edit = EDITS.get(said.get("kind", ""))
    if edit is None:
        raise EditError("This version of Diachron does not know that edit.")
    try:
        return edit(session, tempo_map, said)
    except (KeyError, TypeError) as e:
        raise EditError(f"The edit was not understood ({e}).") from None
    except EditError:
        raise
    except ValueError as e:  # a map that cannot be
        raise EditError(str(e)) from None
