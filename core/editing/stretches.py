"""Commands about a stretch, or the whole map where none is chosen: detected or counted again, evened, tapped."""

from __future__ import annotations

from contextlib import suppress

import numpy as np

from core.document import Document, Hold, WithoutBeats
from core.document.commands import (
    Bars,
    Free,
    HoldBeat,
    PointsEvery,
    Ratio,
    Redetect,
    Rough,
    Settle,
    Shift,
    ShiftByBeats,
    Smooth,
    Steady,
    TakeReading,
    Tap,
    Thin,
)
from core.editing.bars import read_meter, said_lines
from core.editing.chosen import beats_in, where
from core.editing.dispatch import map_of, run
from core.editing.keeping_bars import choose_bars
from core.editing.obeying import obeying
from core.editing.outcome import Outcome
from core.editing.recording import Recording, snap_to_attack
from core.tempomap import Meters, TempoMap, grain, reach
from core.tempomap.counting import rescale
from core.tempomap.edits import EditError, hold_beat, pins_of, with_every_beat
from core.tempomap.limits import checked_tempo
from core.tracking.context import NoBeats
from core.tracking.fit import kept_beats
from core.tracking.parameters import ANOTHER_LEVEL
from core.tracking.redetect import redetect, snap_new_beats
from core.tracking.settling import settle
from core.tracking.tapping import map_from_tapped_bars, map_from_taps

#: Seconds by which beats settle, or points may be missed, at most; seconds under which a beat did not move.
_SETTLED_WITHIN, _THINNED_WITHIN, _UNMOVED = 0.2, 0.5, 1e-7
#: Less than this share of a beat apart two maps mean the same beat.
_SAME_BEAT = 0.25
#: The first downbeat of a rough start goes to an attack within so many seconds.
_ROUGH_SNAP = 0.02


def _ends(chosen: tuple[int, int] | None) -> tuple[int, int] | tuple[None, None]:
    return chosen or (None, None)


@run.register
def _(command: Redetect, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    chosen = beats_in(tempo_map, command.stretch)
    if chosen is None:
        if command.first is None or command.last is None:
            raise EditError("Choose a stretch first: drag along the time above the bars.")
        chosen = command.first, command.last
    try:
        found = redetect(recording.context(), tempo_map, *chosen, command.beats, document.held)
    except NoBeats as e:
        raise EditError(str(e)) from None
    name = f"Detected again{where(tempo_map, chosen)}"
    edited, other = _bars_after(document, recording, found, chosen, command.bars)
    return Outcome(edited, name, flipped=other)


def _bars_after(
    document: Document, recording: Recording, counted: TempoMap, chosen: tuple[int, int], wanted: Bars | None
) -> tuple[TempoMap, Bars | None]:
    """Bars after the beats of a stretch (felt beats of the map before) were replaced."""
    tempo_map = map_of(document)
    a, b = (float(t) for t in tempo_map.seconds_of_beat(list(chosen)))
    had = chosen[1] - chosen[0]
    now = round(float(counted.beat_index_at(b)) - float(counted.beat_index_at(a)))
    if now == had:
        return counted, None
    # at another level the bars of the stretch are counted anew
    anew = (a, b) if not 1 / ANOTHER_LEVEL < now / had < ANOTHER_LEVEL else None
    return choose_bars(document, recording, counted, a, wanted, anew)


@run.register
def _(command: HoldBeat, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    chosen = beats_in(tempo_map, command.stretch)
    assert chosen is not None  # a stretch was given
    start, end = tempo_map.seconds_of_beat(np.array(chosen)).tolist()
    counted = hold_beat(tempo_map, *chosen)
    edited, other = choose_bars(document, recording, counted, start, command.bars)
    return Outcome(edited, f"One held beat{where(tempo_map, chosen)}", (Hold(start, end),), flipped=other)


@run.register
def _(command: Free, document: Document, recording: Recording, preview: bool) -> Outcome:
    start, end = sorted(command.stretch)
    return Outcome(map_of(document), f"No beats from {start:.1f} s to {end:.1f} s", (WithoutBeats(start, end),))


@run.register
def _(command: Settle, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    if not 0 < command.within <= _SETTLED_WITHIN:
        raise EditError(f"Beats can be moved by up to {1000 * _SETTLED_WITHIN:.0f} ms.")
    chosen = beats_in(tempo_map, command.stretch)
    first, last = chosen or (int(tempo_map.beats().index[0]), int(tempo_map.beats().index[-1]))
    try:
        edited = settle(recording.context(), tempo_map, first, last, command.within)
    except NoBeats as e:
        raise EditError(str(e)) from None
    off = np.abs(
        edited.seconds_of_beat(np.arange(first, last + 1)) - tempo_map.seconds_of_beat(np.arange(first, last + 1))
    )
    moved = off > _UNMOVED
    far = f", {1000 * off.max():.0f} ms at most" if moved.any() else ""
    return Outcome(edited, f"Settled on attacks{where(tempo_map, chosen)}: {int(moved.sum())} of {len(off)} moved{far}")


@run.register
def _(command: TakeReading, document: Document, recording: Recording, preview: bool) -> Outcome:
    offered = recording.reading(command.number)
    if offered is None:
        raise EditError("That reading is no longer on offer; find the beats again.")
    name, other = offered
    if document.map is not None:
        pins = document.map.seconds[pins_of(document.map)]
        other = obeying(recording, Document(other, document.statements), pins.tolist())
    return Outcome(other, f"Another reading: {name}")


#: Ratios of new beats to old ones, and what history calls them.
RATIOS = {
    "1:2": "Half the tempo",
    "2:1": "Double the tempo",
    "3:2": "3:2 of the tempo",
    "2:3": "2:3 of the tempo",
    "4:3": "4:3 of the tempo",
    "3:4": "3:4 of the tempo",
}


@run.register
def _(command: Ratio, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    if command.ratio not in RATIOS:
        raise EditError("That ratio is not known.")
    times, over = (int(x) for x in command.ratio.split(":"))
    chosen = beats_in(tempo_map, command.stretch)
    first, last = _ends(chosen)
    if chosen is not None and command.others:
        words = "A stretch keeps the beat at which it begins. To keep the ones between, begin and end it a beat later."
        raise EditError(words)
    offset = _kept(document, recording, times, over) if chosen is None else 0
    if command.others:
        offset = (offset + 1) % over
    counted = rescale(tempo_map, times, over, first, last, offset)
    if times > over and not preview:
        # the new beats go to their attacks; without evidence they stay where they were calculated
        with suppress(NoBeats):
            counted = snap_new_beats(recording.context(), counted, tempo_map.beats().seconds)
    name = f"{RATIOS[command.ratio]}{where(tempo_map, chosen)}"
    if chosen is None:
        return Outcome(counted, f"{name}, the other beats" if command.others else name)
    edited, other = _bars_after(document, recording, counted, chosen, command.bars)
    return Outcome(edited, name, flipped=other)


def _kept(document: Document, recording: Recording, times: int, over: int) -> int:
    """Which of ``over`` beats, counted from bar 1, stays: the one on which most that was said falls; where nothing was,
    bar 1's own, unless bar 1 is as the search found it and another beat fits the recording clearly better."""
    tempo_map = map_of(document)
    pinned = np.round(tempo_map.beat_index_at(tempo_map.seconds[pins_of(tempo_map)])).astype(int)
    fixed = np.array([*said_lines(document), *said_lines(document), *pinned.tolist()], dtype=int)
    if len(fixed):
        return int(np.bincount(fixed % over, minlength=over).argmax())
    if over == 1 or not _opens_as_found(tempo_map, recording.found):
        return 0
    try:
        return kept_beats(recording.context(), tempo_map, times, over)
    except NoBeats:
        return 0


def _opens_as_found(tempo_map: TempoMap, found: TempoMap | None) -> bool:
    """Whether bar 1 still opens on a bar line of the search: the engineer has put it on no other beat."""
    if found is None:
        return False
    beats, at = found.beats(), float(found.beat_index_at(tempo_map.bar_seconds(1)))
    nearest = int(np.argmin(np.abs(beats.index - at)))
    return bool(abs(beats.index[nearest] - at) < _SAME_BEAT and beats.beat[nearest] == 1)


@run.register
def _(command: Steady, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    chosen = beats_in(tempo_map, command.stretch)
    kept = grain.steady(tempo_map, *_ends(chosen))
    return Outcome(kept, f"Steady{where(tempo_map, chosen)}{_cost(tempo_map, kept)}")


@run.register
def _(command: Smooth, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    chosen = beats_in(tempo_map, command.stretch)
    kept = grain.smooth(tempo_map, *_ends(chosen))
    return Outcome(kept, f"Smoothed{where(tempo_map, chosen)}{_cost(tempo_map, kept)}")


@run.register
def _(command: Thin, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    if not 0 < command.within <= _THINNED_WITHIN:
        raise EditError(f"Beats can be kept within 0 to {1000 * _THINNED_WITHIN:.0f} ms.")
    chosen = beats_in(tempo_map, command.stretch)
    kept = grain.thin(tempo_map, command.within, *_ends(chosen))
    return Outcome(kept, f"Fewest points{where(tempo_map, chosen)}{_cost(tempo_map, kept)}")


@run.register
def _(command: PointsEvery, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map, bars = map_of(document), command.bars
    chosen = beats_in(tempo_map, command.stretch)
    kept = grain.every(tempo_map, bars, *_ends(chosen))
    what = "Points at every beat" if bars < 1 else "Points at every bar" if bars == 1 else f"Points every {bars} bars"
    return Outcome(kept, f"{what}{where(tempo_map, chosen)}{_cost(tempo_map, kept)}")


def _cost(tempo_map: TempoMap, kept: TempoMap) -> str:
    off = 1000 * grain.farthest(tempo_map, kept)
    return f": {len(kept.seconds)} points, {off:.1f} ms off at most"


@run.register
def _(command: Shift, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map, by = map_of(document), f"{1000 * command.by:+.0f} ms"
    chosen = beats_in(tempo_map, command.stretch)
    name = f"Whole map {by}" if chosen is None else f"Beats {by}{where(tempo_map, chosen)}"
    return Outcome(reach.shift(tempo_map, command.by, *_ends(chosen)), name)


@run.register
def _(command: ShiftByBeats, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map, words = map_of(document), "later" if command.share > 0 else "earlier"
    chosen = beats_in(tempo_map, command.stretch)
    name = f"Beats {abs(command.share):g} of a beat {words}{where(tempo_map, chosen)}"
    return Outcome(reach.shift_by_beats(tempo_map, command.share, *_ends(chosen)), name)


@run.register
def _(command: Tap, document: Document, recording: Recording, preview: bool) -> Outcome:
    try:
        if command.meter:
            edited = map_from_tapped_bars(recording.context(), document.map, command.taps, read_meter(command.meter))
            return Outcome(edited, f"Tapped {len(command.taps)} bars of {command.meter}")
        edited = map_from_taps(recording.context(), document.map, command.taps)
    except NoBeats as e:
        raise EditError(str(e)) from None
    name = f"Tapped {len(command.taps)} beats"
    other: Bars | None = None
    if document.map is not None:
        full = with_every_beat(document.map)
        taps = edited.beats().seconds
        inside = taps[(taps >= min(command.taps) - 0.5) & (taps <= max(command.taps) + 0.5)]
        ends = np.clip(np.round(full.beat_index_at(inside[[0, -1]])), *full.beats().index[[0, -1]]).astype(int)
        if ends[1] > ends[0]:
            edited, other = _bars_after(document, recording, edited, (int(ends[0]), int(ends[1])), command.bars)
    return Outcome(edited, name, flipped=other)


@run.register
def _(command: Rough, document: Document, recording: Recording, preview: bool) -> Outcome:
    at = snap_to_attack(recording, command.at, _ROUGH_SNAP)
    checked_tempo(command.bpm)
    meter = read_meter(command.meter or "4/4")
    quarter_bpm = command.bpm * meter.quarters / meter.beats
    bars = max(1, int((recording.seconds - at) * quarter_bpm / 60 / meter.quarters))
    made = TempoMap.steady(quarter_bpm, Meters.of((1, meter.felt)), at, bars)
    if document.map is not None:
        pins = document.map.seconds[pins_of(document.map)]
        made = obeying(recording, Document(made, document.statements), pins.tolist())
    return Outcome(made, f"Rough start at {command.bpm:g}, {meter.felt}")
