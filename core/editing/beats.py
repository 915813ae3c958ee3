"""Commands about one beat: moved with a chosen reach, nudged, pinned, inserted, removed."""

from __future__ import annotations

import numpy as np

from core.document import Document
from core.document.commands import (
    Approve,
    Insert,
    Move,
    Nudge,
    Pin,
    Reach,
    Remove,
    SetTempo,
    ToAttack,
    Unpin,
)
from core.document.statements import Right
from core.editing.dispatch import map_of, run
from core.editing.keeping_bars import choose_bars
from core.editing.outcome import Outcome
from core.editing.recording import Recording, snap_to_attack
from core.tempomap import TempoMap, edits, reach
from core.tempomap.edits import EditError
from core.tempomap.limits import checked_tempo
from core.tempomap.position import words_at
from core.tracking.context import NoBeats
from core.tracking.redetect import move_and_redetect

#: The farthest that a drag snaps, in seconds.
_FARTHEST_SNAP = 0.25
#: Attacks nearer than this to a beat are its own, in seconds.
_OWN = 0.004

#: What history adds for each reach of an edit.
REACHES: dict[Reach, str] = {
    "beat": "",
    "bend": ", tempo bent to the next pins",
    "pins": ", detected again to the next pins",
    "onward": ", all that follow moved along",
    "stretch": ", all that follow stretched",
    "whole": ", with the whole map",
}


def carried(document: Document, recording: Recording, beat: int, to: float, how: Reach) -> TempoMap:
    """The map with ``beat`` at ``to``, carried as far as the chosen reach says; locked stretches stop it as pins do."""
    tempo_map = map_of(document)
    stops = [t for s in document.statements if isinstance(s, Right) for t in s.seconds]
    if how == "pins":
        try:
            return move_and_redetect(recording.context(), tempo_map, beat, to)
        except NoBeats as e:
            raise EditError(str(e)) from None
    if how == "bend":
        return reach.bend(tempo_map, beat, to, stops)
    if how == "onward":
        return reach.onward(tempo_map, beat, to, stops)
    if how == "stretch":
        return reach.stretch_onward(tempo_map, beat, to, stops)
    if how == "whole":
        return reach.shift(tempo_map, to - float(tempo_map.seconds_of_beat(beat)))
    return edits.move_beat(tempo_map, beat, to)


def _moved(document: Document, recording: Recording, beat: int, to: float, how: Reach, name: str) -> Outcome:
    """The beat's own pin moves with it: moving it is the engineer's new word on where it is."""
    old = float(map_of(document).seconds_of_beat(beat))
    edited = carried(document, recording, beat, to, how)
    # the pin of the tempo's start, when the whole map moves, moves too
    return Outcome(edited, f"{name}{REACHES[how]}", unpinned=(old,))


@run.register
def _(command: Move, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    within = min(_FARTHEST_SNAP, command.snap_within)
    to = command.to if command.free else snap_to_attack(recording, command.to, within, command.track)
    by = to - float(tempo_map.seconds_of_beat(command.beat))
    how_far = f"{1000 * by:+.1f} ms" if abs(by) < 1 else f"{by:+.3f} s"
    name = f"Moved {words_at(tempo_map, command.beat)} by {how_far}"
    return _moved(document, recording, command.beat, to, command.reach, name)


@run.register
def _(command: Nudge, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    to = float(tempo_map.seconds_of_beat(command.beat)) + command.by
    name = f"Nudged {words_at(tempo_map, command.beat)} by {1000 * command.by:+.0f} ms"
    return _moved(document, recording, command.beat, to, command.reach, name)


@run.register
def _(command: SetTempo, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    checked_tempo(command.bpm)
    to = float(tempo_map.seconds_of_beat(command.beat)) + 60 / command.bpm
    name = f"{command.bpm:.1f} bpm at {words_at(tempo_map, command.beat)}"
    return _moved(document, recording, command.beat + 1, to, command.reach, name)


@run.register
def _(command: ToAttack, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    now = float(tempo_map.seconds_of_beat(command.beat))
    found = [a.seconds[a.strength >= command.least] for a in recording.attacks(command.track)]
    times = np.sort(np.concatenate(found)) if found else np.zeros(0)
    times = times[times > now + _OWN] if command.by > 0 else times[times < now - _OWN][::-1]
    if not len(times):
        raise EditError("There is no further attack on that side.")
    name = f"Moved {words_at(tempo_map, command.beat)} to the {'next' if command.by > 0 else 'previous'} attack"
    return _moved(document, recording, command.beat, float(times[0]), command.reach, name)


@run.register
def _(command: Pin, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    name = f"{'Pinned' if command.on else 'Unpinned'} {words_at(tempo_map, command.beat)}"
    edited = edits.set_pin(tempo_map, command.beat, command.on)
    unpinned = () if command.on else (float(tempo_map.seconds_of_beat(command.beat)),)
    return Outcome(edited, name, unpinned=unpinned)


@run.register
def _(command: Unpin, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    a, b = command.stretch
    pins = edits.pins_of(tempo_map)
    inside = pins & (tempo_map.seconds >= a - 1e-6) & (tempo_map.seconds <= b + 1e-6)
    edited = tempo_map.with_points(tempo_map.seconds, tempo_map.quarters, pins & ~inside)
    n = int(inside.sum())
    return Outcome(edited, f"Unpinned {n} beat{'s' * (n != 1)}", unpinned=tuple(tempo_map.seconds[inside].tolist()))


@run.register
def _(command: Approve, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    a, b = command.stretch
    beats = tempo_map.beats()
    inside = beats.index[(beats.seconds >= a - 1e-6) & (beats.seconds <= b + 1e-6)]
    if not len(inside):
        inside = beats.index[[int(np.argmin(np.abs(beats.seconds - (a + b) / 2)))]]
    for beat in inside.tolist():
        tempo_map = edits.set_pin(tempo_map, beat, True)
    return Outcome(tempo_map, f"Pinned as it is: {words_at(tempo_map, int(inside[0]))}")


@run.register
def _(command: Insert, document: Document, recording: Recording, preview: bool) -> Outcome:
    within = min(_FARTHEST_SNAP, command.snap_within)
    to = command.to if command.free else snap_to_attack(recording, command.to, within, command.track)
    counted = edits.insert_beat(map_of(document), to)
    edited, other = choose_bars(document, recording, counted, to, command.bars)
    return Outcome(edited, f"Inserted a beat at {to:.3f} s", flipped=other)


@run.register
def _(command: Remove, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    at = float(tempo_map.seconds_of_beat(command.beat))
    counted = edits.remove_beat(tempo_map, command.beat)
    edited, other = choose_bars(document, recording, counted, at, command.bars)
    return Outcome(edited, f"Removed {words_at(tempo_map, command.beat)}", unpinned=(at,), flipped=other)
