"""A map that was found, made to obey what was said."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress

import numpy as np

from core.document import BarLine, BarsHere, Document, Hold, MeterHere, MusicEnds, MusicStarts, Right
from core.document.statements import beat_at, holds, line_at, words
from core.editing.bars import counted_beats, numbered, read_meter
from core.editing.recording import Recording
from core.editing.said_lines import with_said_lines
from core.tempomap import TempoMap
from core.tempomap.bar_lines import with_lines_kept
from core.tempomap.edits import EditError, hold_beat, move_beat, pins_of, set_meter, with_every_beat
from core.tempomap.splice import bars_between, between, splice
from core.tracking.results import Stretch

#: A beat nearer than this share of a beat to a pin is the pin; else the pin stands between beats.
_AT_PIN = 0.3


def obeying(
    recording: Recording, document: Document, pins: Sequence[float], pieces: Sequence[Stretch] | None = None
) -> TempoMap:
    """The document's map with every statement and every pin (seconds) obeyed. ``pieces``: those that the map holds,
    where it is not of the recording's last search.

    Raises :class:`core.tempomap.edits.EditError` where they contradict each other, with a sentence that names one.
    """
    assert document.map is not None
    if not document.statements and not len(pins):
        return document.map
    failed = ""
    try:
        found = _made_to_obey(recording, document, pins, recording.pieces() if pieces is None else pieces)
    except EditError as e:
        failed, found = f" ({e})", document.map
    for statement in document.statements:
        if not holds(statement, found):
            raise EditError(f"No map was found that obeys what you said: {words(statement)}{failed}.")
    if failed:
        raise EditError(f"No map was found that obeys what you pinned{failed}.")
    return found


def _made_to_obey(
    recording: Recording, document: Document, pins: Sequence[float], pieces: Sequence[Stretch]
) -> TempoMap:
    assert document.map is not None
    found, statements = document.map, document.statements
    for t in pins:
        found = _through_pin(found, t)
    for statement in statements:
        if isinstance(statement, Right) and len(statement.seconds) > 1 and not _has_beats(found, statement):
            found = with_lines_kept(found, splice(found, statement.seconds))
    for statement in statements:
        if isinstance(statement, Hold) and not holds(statement, found):
            found = _with_hold(found, statement)
    for statement in statements:
        if isinstance(statement, BarsHere) and not holds(statement, found):
            found = _with_bars(recording, found, statement, document.held)
    found = _ends(found, document)
    if not all(holds(s, found) for s in statements):
        found = with_said_lines(recording, found, document, pieces)
    for statement in statements:
        if isinstance(statement, MeterHere) and not holds(statement, found):
            bar = line_at(found, statement.at)
            if bar is not None:
                found = set_meter(found, bar, read_meter(statement.meter), statement.only)
    return _with_numbers(found, document)


def fixed_times(document: Document) -> list[float]:
    """Times (seconds) that have to be beats, pins aside: those of locked stretches, ends of counted and held ones."""
    times: list[float] = []
    for statement in document.statements:
        match statement:
            case Right():
                times += statement.seconds
            case BarsHere(start, end) | Hold(start, end):
                times += [start, end]
    return times


def _through_pin(tempo_map: TempoMap, t: float) -> TempoMap:
    """The map with a pin at ``t``: the beat there, or a point between beats."""
    here = np.flatnonzero(np.abs(tempo_map.seconds - t) < 1e-6)
    if len(here):
        pins = pins_of(tempo_map).copy()
        pins[here] = True
        return tempo_map.with_points(tempo_map.seconds, tempo_map.quarters, pins)
    at = float(tempo_map.beat_index_at(t))
    beat = round(at)
    ends = tempo_map.beats().index[[0, -1]]
    if abs(at - beat) < _AT_PIN or not ends[0] < at < ends[1]:
        with suppress(EditError):
            return move_beat(tempo_map, beat, t)
    full = with_every_beat(tempo_map)
    k = int(np.searchsorted(full.seconds, t))
    return full.with_points(
        np.insert(full.seconds, k, t),
        np.insert(full.quarters, k, float(full.quarters_at(t))),
        np.insert(pins_of(full), k, True),
    )


def _has_beats(tempo_map: TempoMap, lock: Right) -> bool:
    now = Right.of(tempo_map, lock.start, lock.end)
    return len(now.seconds) == len(lock.seconds) and bool((np.abs(np.subtract(now.seconds, lock.seconds)) < 1e-6).all())


def _with_hold(tempo_map: TempoMap, hold: Hold) -> TempoMap:
    """The map with one held beat from the beat nearest to its start to the one nearest to its end."""
    first, last = (round(float(tempo_map.beat_index_at(t))) for t in (hold.start, hold.end))
    return with_lines_kept(tempo_map, hold_beat(tempo_map, first, last)) if last > first + 1 else tempo_map


def _with_bars(
    recording: Recording, tempo_map: TempoMap, statement: BarsHere, held: Sequence[tuple[float, float]]
) -> TempoMap:
    made = bars_between(
        tempo_map,
        statement.start,
        statement.end,
        statement.bars,
        read_meter(statement.meter) if statement.meter else None,
    )
    return counted_beats(recording, made, statement.start, statement.end, held)


def _ends(tempo_map: TempoMap, document: Document) -> TempoMap:
    first, last = (int(k) for k in tempo_map.beats().index[[0, -1]])
    for statement in document.statements:
        if isinstance(statement, MusicStarts):
            first = beat_at(tempo_map, statement.at) or round(float(tempo_map.beat_index_at(statement.at)))
        if isinstance(statement, MusicEnds):
            last = beat_at(tempo_map, statement.at) or round(float(tempo_map.beat_index_at(statement.at)))
    return between(tempo_map, first, last)


def _with_numbers(tempo_map: TempoMap, document: Document) -> TempoMap:
    """Bar numbers counted from the first one that was said."""
    for statement in document.statements:
        match statement:
            case BarLine(at, number) if number is not None:
                beat, bar = beat_at(tempo_map, at), number
            case Right() if 1 in statement.beats:
                k = statement.beats.index(1)
                beat, bar = beat_at(tempo_map, statement.seconds[k]), statement.bars[k]
            case _:
                continue
        if beat is not None and tempo_map.beats(beat, beat).beat[0] == 1:
            return numbered(tempo_map, beat, bar)
    return tempo_map
