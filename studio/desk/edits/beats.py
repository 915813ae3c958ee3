"""Edits of one beat: moved with a chosen reach, nudged, pinned, inserted, removed."""

from typing import Any

import numpy as np

from core.tempomap import TempoMap, reach
from core.tempomap import edits as core
from core.tempomap.edits import EditError
from core.tempomap.limits import checked_tempo
from core.tempomap.position import words_at
from core.tracking.context import NoBeats
from core.tracking.redetect import move_and_redetect
from studio.analysis.features import attacks, context
from studio.desk.edits.arguments import target
from studio.library.models import Session


def carried(session: Session, tempo_map: TempoMap, beat: int, to: float, how: str) -> TempoMap:
    """The map with ``beat`` at ``to``, carried as far as the chosen reach says."""
    if how == "pins":
        try:
            return move_and_redetect(context(session), tempo_map, beat, to)
        except NoBeats as e:
            raise EditError(str(e)) from None
    if how == "onward":
        return reach.onward(tempo_map, beat, to)
    if how == "stretch":
        return reach.stretch_onward(tempo_map, beat, to)
    if how == "whole":
        return reach.shift(tempo_map, to - float(tempo_map.seconds_of_beat(beat)))
    return core.move_beat(tempo_map, beat, to)


#: What history adds for each reach of an edit.
REACHES = {
    "": "",
    "beat": "",
    "pins": ", solved to the next pins",
    "onward": ", onward keeping tempos",
    "stretch": ", onward stretched",
    "whole": ", with the whole map",
}


def move(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    beat, how = int(params["beat"]), params.get("reach", "")
    to = target(session, params)
    by = 1000 * (to - float(tempo_map.seconds_of_beat(beat)))
    return carried(
        session, tempo_map, beat, to, how
    ), f"Moved {words_at(tempo_map, beat)} by {by:+.1f} ms{REACHES[how]}"


def nudge(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    beat, by, how = int(params["beat"]), float(params["by"]), params.get("reach", "")
    to = float(tempo_map.seconds_of_beat(beat)) + by
    name = f"Nudged {words_at(tempo_map, beat)} by {1000 * by:+.0f} ms{REACHES[how]}"
    return carried(session, tempo_map, beat, to, how), name


def tempo(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    """From this beat to the next at ``bpm`` felt beats a minute: the next beat moves."""
    beat, bpm, how = int(params["beat"]), float(params["bpm"]), params.get("reach", "")
    checked_tempo(bpm)
    to = float(tempo_map.seconds_of_beat(beat)) + 60 / bpm
    return carried(session, tempo_map, beat + 1, to, how), f"{bpm:.1f} bpm at {words_at(tempo_map, beat)}{REACHES[how]}"


def to_attack(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    """To the next attack (``by`` 1) or the one before (-1), of one track or of all."""
    beat, by, how = int(params["beat"]), int(params["by"]), params.get("reach", "")
    now = float(tempo_map.seconds_of_beat(beat))
    least = float(params.get("least", 0.2))
    found = []
    for track in session.tracks.all():
        if track.analysed and params.get("track") in (None, track.pk):
            a = attacks(track)
            found.append(a.seconds[a.strength >= least])
    times = np.sort(np.concatenate(found)) if found else np.zeros(0)
    times = times[times > now + 0.004] if by > 0 else times[times < now - 0.004][::-1]
    if not len(times):
        raise EditError("There is no further attack on that side.")
    name = f"Moved {words_at(tempo_map, beat)} to the {'next' if by > 0 else 'previous'} attack{REACHES[how]}"
    return carried(session, tempo_map, beat, float(times[0]), how), name


def pin(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    beat = int(params["beat"])
    on = bool(params.get("on", True))
    return core.set_pin(tempo_map, beat, on), f"{'Pinned' if on else 'Unpinned'} {words_at(tempo_map, beat)}"


def insert(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    to = target(session, params)
    return core.insert_beat(tempo_map, to), f"Inserted a beat at {to:.3f} s"


def remove(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    beat = int(params["beat"])
    return core.remove_beat(tempo_map, beat), f"Removed {words_at(tempo_map, beat)}"


def approve(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    """A stretch is right as it is: its beats become pins."""
    a, b = (float(x) for x in params["stretch"])
    beats = tempo_map.beats()
    inside = beats.index[(beats.seconds >= a - 1e-6) & (beats.seconds <= b + 1e-6)]
    if not len(inside):
        inside = beats.index[[int(np.argmin(np.abs(beats.seconds - (a + b) / 2)))]]
    for beat in inside:
        tempo_map = core.set_pin(tempo_map, int(beat), True)
    return tempo_map, f"Pinned as it is: {words_at(tempo_map, int(inside[0]))}"
