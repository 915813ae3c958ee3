"""Commands about bars: which beat is beat 1, bar numbers, meters, bars joined and split, a stretch of n bars."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace

import numpy as np

from core.document import BarLine, BarsHere, Document, MeterHere, Right
from core.document.commands import AreBars, Count, Downbeat, Join, MakeOne, Number, PlaceAt, SetMeter, Split
from core.document.statements import line_at
from core.editing.chosen import beats_in, where
from core.editing.dispatch import map_of, run
from core.editing.outcome import Outcome
from core.editing.recording import Recording, snap_to_attack
from core.errors import InputError
from core.tempomap import Meter, TempoMap, edits, reach
from core.tempomap.bar_lines import lines_of, usual_meter, with_lines, with_lines_moved
from core.tempomap.counting import renumber
from core.tempomap.edits import EditError, pins_of
from core.tempomap.position import words_at
from core.tempomap.splice import BEAT_SECONDS, bars_between, between, splice
from core.tracking.context import NoBeats
from core.tracking.pieces import piece_of
from core.tracking.redetect import LONGEST_DETECTED, redetect

#: Felt beats of the longest bar that is counted by hand.
_MOST_IN_BAR = 16
#: How far an end of a stretch, and a place that is named, go to an attack, in seconds.
_END_SNAP, _PLACE_SNAP = 0.03, 0.05
#: So many beats are detected for a look, too: it takes a quarter of a second (docs/measured.md).
_DETECTED_FOR_A_LOOK = 64
#: A bar shorter than this, in beats, is not made at a seam: its beats go to the bar before.
_SHORTEST = 2
#: Seconds within which an end of a stretch is the pinned beat beside it.
_PINNED_NEAR = 0.06


def read_meter(text: str) -> Meter:
    try:
        return Meter.parse(text)
    except InputError as e:
        raise EditError(str(e)) from None


def said_lines(document: Document) -> list[int]:
    """Felt beats that were said to be bar lines, or are in a locked stretch; rising."""
    tempo_map = map_of(document)
    times: list[float] = []
    for statement in document.statements:
        match statement:
            case BarLine(at, _):
                times.append(at)
            case BarsHere(start, end):
                times += [start, end]
            case Right():
                times += [t for t, b in zip(statement.seconds, statement.beats, strict=True) if b == 1]
    bars = {line_at(tempo_map, t) for t in times} - {None}
    return sorted(_line(tempo_map, bar) for bar in bars if bar is not None)


def _line(tempo_map: TempoMap, bar: int) -> int:
    """The felt beat that opens a bar."""
    return round(float(tempo_map.meters.beat_of_quarters(tempo_map.meters.bar_quarters(bar))))


@run.register
def _(command: Downbeat, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map, by = map_of(document), command.by
    name = f"Downbeat {abs(by)} beat{'s' * (abs(by) != 1)} {'later' if by > 0 else 'earlier'}"
    chosen = beats_in(tempo_map, command.stretch)
    if chosen is None:
        return Outcome(edits.shift_downbeat(tempo_map, by), name)
    return Outcome(with_lines_moved(tempo_map, by, *chosen), f"{name}{where(tempo_map, chosen)}")


@run.register
def _(command: MakeOne, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map, beat = map_of(document), command.beat
    at = float(tempo_map.seconds_of_beat(beat))
    statements = (BarLine(at),)
    found = tempo_map.beats(beat, beat)
    if found.beat[0] == 1:
        return Outcome(tempo_map, f"A bar starts at {words_at(tempo_map, beat)}", statements)
    return Outcome(lines_through(document, recording, beat), f"Beat 1 moved to {words_at(tempo_map, beat)}", statements)


def lines_through(document: Document, recording: Recording, beat: int) -> TempoMap:
    """The map with bar lines moved so that one falls on ``beat``: all of them, or of several pieces in one recording
    those of the beat's own, or those up to the next ones that were said. An odd bar stands where they meet."""
    tempo_map = map_of(document)
    found = tempo_map.beats(beat, beat)
    into = int(found.beat[0]) - 1
    count = tempo_map.meters.meter_at(int(found.bar[0])).beats
    piece = piece_of(recording.pieces(), tempo_map, beat)
    start, end = piece or (-np.inf, np.inf)
    fixed = [k for k in said_lines(document) if start <= k <= end]
    below, above = [k for k in fixed if k < beat], [k for k in fixed if k > beat]
    if not fixed and piece:
        return with_lines_moved(tempo_map, into if into <= count / 2 else into - count, *piece)
    if not fixed:
        first = int(tempo_map.beats().index[0])
        by = into if into <= count / 2 and first <= 0 else into - count
        if by > 0 and by - first >= count:  # a whole bar more would lie before bar 1
            by -= count
        try:
            return edits.shift_downbeat(tempo_map, by)
        except EditError:
            return edits.shift_downbeat(tempo_map, into)
    lines, meters = lines_of(tempo_map)
    pairs = list(zip(lines.tolist(), [*meters, meters[-1]], strict=True))
    lower, upper = (below[-1] if below else None), (above[0] if above else None)
    by = into
    if lower is None and into > count / 2:
        by = into - count
    low = [(k, m) for k, m in pairs if k < start or (lower is not None and (k <= lower or k < beat - _SHORTEST + 1))]
    shifted = [
        (k + by, m)
        for k, m in pairs
        if start <= k <= end
        and (lower is None or k + by >= beat)
        and (upper is None or k + by <= upper - _SHORTEST)
        and start <= k + by <= end
    ]
    high = [(k, m) for k, m in pairs if k > end or (upper is not None and k >= upper)]
    made = [*low, *shifted, *high]
    return with_lines(tempo_map, [k for k, _ in made], [m for _, m in made])


@run.register
def _(command: Number, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map, beat, bar = map_of(document), command.beat, command.bar
    at = float(tempo_map.seconds_of_beat(beat))
    name = f"{words_at(tempo_map, beat).capitalize()} is bar {bar} now"
    if tempo_map.beats(beat, beat).beat[0] != 1:
        tempo_map = lines_through(document, recording, beat)
        beat = round(float(tempo_map.beat_index_at(at)))
    return Outcome(numbered(tempo_map, beat, bar), name, (BarLine(at, bar),))


def numbered(tempo_map: TempoMap, beat: int, bar: int) -> TempoMap:
    """The bar that opens at ``beat`` gets the number ``bar``; all bars keep their lines and meters."""
    more = bar - int(tempo_map.beats(beat, beat).bar[0])
    if not more:
        return tempo_map
    if len(tempo_map.meters.changes) == 1:
        return renumber(tempo_map, beat, bar)
    lines, meters = lines_of(tempo_map)
    if more < 0:
        if -more >= len(meters):
            raise EditError("Bar 1 has to start inside the mapped music.")
        return with_lines(tempo_map, lines[-more:].tolist(), meters[-more:])
    before = [int(lines[0]) - k * meters[0].beats for k in range(more, 0, -1)]
    if float(tempo_map.seconds_of_beat(before[0])) < 0:
        raise EditError(f"Bar 1 would lie before the recording starts if this were bar {bar}.")
    return with_lines(tempo_map, [*before, *lines.tolist()], [meters[0]] * more + meters)


@run.register
def _(command: PlaceAt, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map, bar, beat = map_of(document), command.bar, command.beat
    at = snap_to_attack(recording, command.at, _PLACE_SNAP)
    meter = tempo_map.meters.meter_at(bar)
    if not 1 <= beat <= meter.beats:
        raise EditError(f"Bar {bar} has {meter.beats} beats; there is no beat {beat}.")
    target = _line(tempo_map, bar) + beat - 1
    edited = placed(document, recording, at, target, bar, beat, preview)
    line = at if beat == 1 else float(edited.bar_seconds(bar))
    name = f"The attack at {at:.3f} s is bar {bar}" + (f" beat {beat}" if beat > 1 else "")
    return Outcome(edited, name, (BarLine(line, bar),), unpinned=(float(tempo_map.seconds_of_beat(target)),))


def placed(
    document: Document, recording: Recording, at: float, target: int, bar: int, beat: int, preview: bool
) -> TempoMap:
    """The map in which felt beat ``target`` (beat ``beat`` of bar ``bar``) lies at ``at`` seconds, pinned."""
    tempo_map = map_of(document)
    stops = [t for s in document.statements if isinstance(s, Right) for t in s.seconds]
    here = float(tempo_map.beat_index_at(at))
    ends = tempo_map.beats().index[[0, -1]]
    if not ends[0] <= here <= ends[1]:  # what is said lies outside the mapped music: that reaches as far, then
        tempo_map = between(tempo_map, min(int(ends[0]), round(here)), max(int(ends[1]), round(here)))
        document = replace(document, map=tempo_map)
    if abs(here - target) < 0.5:  # it is that beat already: only its time is set right
        return reach.bend(tempo_map, target, at, stops)
    fixed = np.round(tempo_map.beat_index_at(tempo_map.seconds[pins_of(tempo_map)])).astype(int).tolist()
    anchors = [k for k in [*fixed, *said_lines(document)] if k < here - 0.5]
    if not anchors:  # nothing before it was said: all bars are counted from here
        nearest = round(here)
        if tempo_map.beats(nearest, nearest).beat[0] == beat:
            moved = numbered(tempo_map, nearest - beat + 1, bar)
        else:
            index = tempo_map.meters.beat_of_quarters(tempo_map.quarters) - nearest + target
            if index[-1] < 1:
                raise EditError("Bar 1 has to start inside the mapped music.")
            moved = tempo_map.with_points(
                tempo_map.seconds, tempo_map.meters.quarters_of_beat(index), pins_of(tempo_map)
            )
        return reach.bend(moved, round(float(moved.beat_index_at(tempo_map.seconds_of_beat(nearest)))), at, stops)
    last = max(anchors)
    beats = target - last
    start = float(tempo_map.seconds_of_beat(last))
    if beats < 1 or not BEAT_SECONDS[0] < (at - start) / beats < BEAT_SECONDS[1]:
        raise EditError(
            f"{words_at(tempo_map, last).capitalize()} was said to be at {start:.2f} s: bar {bar} is not here."
        )
    new = np.linspace(start, at, beats + 1)
    pins = np.zeros(len(new), dtype=bool)
    pins[[0, -1]] = [bool((np.abs(np.array(fixed) - last) < 1).any()) if fixed else False, True]
    edited = splice(tempo_map, new, pins, tempo_map.meters)
    if beats >= 2 and not (preview and beats > _DETECTED_FOR_A_LOOK):
        with suppress(EditError, NoBeats):
            edited = redetect(recording.context(), edited, last, target, beats)
    return edited


@run.register
def _(command: SetMeter, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map, wanted = map_of(document), read_meter(command.meter)
    where = f"bar {command.bar} only" if command.only else f"from bar {command.bar}"
    at = float(tempo_map.bar_seconds(command.bar))
    edited = edits.set_meter(tempo_map, command.bar, wanted, command.only)
    return Outcome(edited, f"{wanted.felt} {where}", (MeterHere(at, wanted.felt, command.only),))


@run.register
def _(command: Count, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map, bar, beats = map_of(document), command.bar, command.beats
    if not 1 <= beats <= _MOST_IN_BAR:
        raise EditError(f"A bar has 1 to {_MOST_IN_BAR} beats.")
    usual = tempo_map.meters.meter_at(bar)
    wanted = Meter(beats * usual.groups[0], usual.denominator, (usual.groups[0],) * beats)
    at = float(tempo_map.bar_seconds(bar))
    edited = edits.set_meter(tempo_map, bar, wanted, only=True)
    name = f"Bar {bar} has {beats} beat{'s' * (beats != 1)}"
    return Outcome(edited, name, (MeterHere(at, wanted.felt, True),))


@run.register
def _(command: Split, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    edited = edits.split_bar(tempo_map, command.beat)
    at = float(tempo_map.seconds_of_beat(command.beat))
    return Outcome(edited, f"A bar starts at {words_at(tempo_map, command.beat)}", (BarLine(at),))


@run.register
def _(command: Join, document: Document, recording: Recording, preview: bool) -> Outcome:
    bar = command.bar
    return Outcome(edits.join_bars(map_of(document), bar), f"Joined bars {bar} and {bar + 1}")


@run.register
def _(command: AreBars, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map, bars = map_of(document), command.bars
    a, b = sorted(snap_to_attack(recording, t, _END_SNAP) for t in command.stretch)
    a, b = _pinned_ends(tempo_map, (a, b))
    meter = usual_meter(tempo_map, int(tempo_map.meters.bars_at(tempo_map.quarters_at(a) + 1e-3)))
    given = read_meter(command.meter) if command.meter else None
    meter = given or meter
    edited = bars_between(tempo_map, a, b, bars, meter)
    first, last = (round(float(edited.beat_index_at(t))) for t in (a, b))
    if not (preview and last - first > _DETECTED_FOR_A_LOOK):
        edited = counted_beats(recording, edited, a, b, document.held)
    bpm = 60 * (last - first) / (b - a)
    name = f"{bars} bar{'s' * (bars != 1)} at {bpm:.1f} from {words_at(edited, first)}"
    return Outcome(edited, name, (BarsHere(a, b, bars, given.felt if given else None),))


def counted_beats(
    recording: Recording, tempo_map: TempoMap, start: float, end: float, held: Sequence[tuple[float, float]]
) -> TempoMap:
    """The map with the beats between two of them (seconds) detected, as many as there are, none inside the ``held``
    ones. Where none are detected they stay as they are: the engineer's count holds either way."""
    first, last = (round(float(tempo_map.beat_index_at(t))) for t in (start, end))
    if last <= first or (end - start) / (last - first) >= LONGEST_DETECTED:
        return tempo_map
    with suppress(EditError, NoBeats):
        return redetect(recording.context(), tempo_map, first, last, last - first, held)
    return tempo_map


def _pinned_ends(tempo_map: TempoMap, ends: Sequence[float]) -> tuple[float, float]:
    """Ends that lie near a pinned beat are that beat."""
    pinned = tempo_map.seconds[pins_of(tempo_map)]
    near = [
        float(pinned[int(np.argmin(np.abs(pinned - t)))])
        if len(pinned) and np.abs(pinned - t).min() < _PINNED_NEAR
        else t
        for t in ends
    ]
    return near[0], near[1]
