"""Edits of one beat: moved with a chosen reach, nudged, pinned, inserted, removed."""

import numpy as np

from core.beats import NoBeats
from core.beats.resolve import move_and_solve
from core.tempomap import TempoMap, reach
from core.tempomap import edits as core
from core.tempomap.edits import EditError
from studio.desk.edits.asked import place, target
from studio.library.hearing import attacks, scene
from studio.library.models import Session


def carried(session: Session, tempo_map: TempoMap, beat: int, to: float, how: str) -> TempoMap:
    """The map with ``beat`` at ``to``, carried as far as the chosen reach says."""
    if how == "pins":
        try:
            return move_and_solve(scene(session), tempo_map, beat, to)
        except NoBeats as e:
            raise EditError(str(e)) from None
    if how == "onward":
        return reach.onward(tempo_map, beat, to)
    if how == "stretch":
        return reach.stretch_onward(tempo_map, beat, to)
    if how == "whole":
        return reach.shift(tempo_map, to - float(tempo_map.seconds_of_beat(beat)))
    return core.move_beat(tempo_map, beat, to)


REACHES = {
    "": "",
    "beat": "",
    "pins": ", solved to the next pins",
    "onward": ", onward keeping tempos",
    "stretch": ", onward stretched",
    "whole": ", with the whole map",
}


def move(session, tempo_map, said):
    beat, how = int(said["beat"]), said.get("carry", "")
    to = target(session, said)
    by = 1000 * (to - float(tempo_map.seconds_of_beat(beat)))
    return carried(session, tempo_map, beat, to, how), f"Moved {place(tempo_map, beat)} by {by:+.1f} ms{REACHES[how]}"


def nudge(session, tempo_map, said):
    beat, by, how = int(said["beat"]), float(said["by"]), said.get("carry", "")
    to = float(tempo_map.seconds_of_beat(beat)) + by
    name = f"Nudged {place(tempo_map, beat)} by {1000 * by:+.0f} ms{REACHES[how]}"
    return carried(session, tempo_map, beat, to, how), name


def tempo(session, tempo_map, said):
    """From this beat to the next at ``bpm`` felt beats a minute: the next beat moves."""
    beat, bpm, how = int(said["beat"]), float(said["bpm"]), said.get("carry", "")
    if not 10 <= bpm <= 600:
        raise EditError("A tempo lies between 10 and 600 beats a minute.")
    to = float(tempo_map.seconds_of_beat(beat)) + 60 / bpm
    return carried(session, tempo_map, beat + 1, to, how), f"{bpm:.1f} bpm at {place(tempo_map, beat)}{REACHES[how]}"


def to_attack(session, tempo_map, said):
    """To the next attack (``by`` 1) or the one before (-1), of one track or of all."""
    beat, by, how = int(said["beat"]), int(said["by"]), said.get("carry", "")
    now = float(tempo_map.seconds_of_beat(beat))
    least = float(said.get("least", 0.2))
    found = []
    for track in session.tracks.all():
        if track.heard and said.get("track") in (None, track.pk):
            a = attacks(track)
            found.append(a.seconds[a.strength >= least])
    times = np.sort(np.concatenate(found)) if found else np.zeros(0)
    times = times[times > now + 0.004] if by > 0 else times[times < now - 0.004][::-1]
    if not len(times):
        raise EditError("There is no further attack on that side.")
    name = f"Moved {place(tempo_map, beat)} to the {'next' if by > 0 else 'previous'} attack{REACHES[how]}"
    return carried(session, tempo_map, beat, float(times[0]), how), name


def pin(session, tempo_map, said):
    beat = int(said["beat"])
    on = bool(said.get("on", True))
    return core.set_pin(tempo_map, beat, on), f"{'Pinned' if on else 'Unpinned'} {place(tempo_map, beat)}"


def insert(session, tempo_map, said):
    to = target(session, said)
    return core.insert_beat(tempo_map, to), f"Inserted a beat at {to:.3f} s"


def remove(session, tempo_map, said):
    beat = int(said["beat"])
    return core.remove_beat(tempo_map, beat), f"Removed {place(tempo_map, beat)}"


def approve(session, tempo_map, said):
    """A stretch is right as it is: its beats become pins."""
    a, b = (float(x) for x in said["stretch"])
    beats = tempo_map.beats()
    inside = beats.index[(beats.seconds >= a - 1e-6) & (beats.seconds <= b + 1e-6)]
    if not len(inside):
        inside = beats.index[[int(np.argmin(np.abs(beats.seconds - (a + b) / 2)))]]
    for beat in inside:
        tempo_map = core.set_pin(tempo_map, int(beat), True)
    return tempo_map, f"Pinned as it is: {place(tempo_map, int(inside[0]))}"
