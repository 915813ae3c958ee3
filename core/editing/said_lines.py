"""Bars found again around the bar lines that were said."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from core.document import BarLine, BarsHere, Document, MeterHere, Right
from core.document.statements import Statement, holds
from core.editing.bars import read_meter
from core.editing.recording import Recording
from core.listening.rates import FRAME_RATE
from core.tempomap import TempoMap
from core.tempomap.bar_lines import lines_of, with_lines
from core.tempomap.edits import with_every_beat
from core.tracking.bars import divide
from core.tracking.context import NoBeats
from core.tracking.downbeats import downbeat_evidence, likeness
from core.tracking.pieces import parts_of, still_apart
from core.tracking.results import Stretch

Floats = NDArray[np.float64]

#: What lies farther than this beyond a stretch, in seconds, is said of another.
_NEAR = 1.0
#: What a bar line that was said is worth, in nats: more than any evidence.
_SAID = 200.0


def with_said_lines(
    recording: Recording, tempo_map: TempoMap, document: Document, pieces: Sequence[Stretch]
) -> TempoMap:
    """Bars found again with the bar lines that were said as they are; of several pieces in those alone that something
    was said of."""
    parts = parts_of(tempo_map, still_apart(pieces, tempo_map))
    if len(parts) < 2:
        return _divided_again(recording, with_every_beat(tempo_map), document)
    for part in parts:
        if part is None:
            continue
        start, end = part.seconds[[0, -1]].tolist()
        said = [s for s in document.statements if start <= _at(s) <= end]
        if not all(holds(s, tempo_map) for s in said):
            tempo_map = _divided_again(recording, with_every_beat(tempo_map), document, (start, end))
    return tempo_map


def _at(statement: Statement) -> float:
    match statement:
        case BarLine(at) | MeterHere(at):
            return at
        case Right(start) | BarsHere(start):
            return start
    return np.nan


def _divided_again(
    recording: Recording, full: TempoMap, document: Document, stretch: tuple[float, float] = (-np.inf, np.inf)
) -> TempoMap:
    """The map ``full``, which has a point at every beat, with other bar lines in a stretch (seconds)."""
    lines, meters = lines_of(full)
    pairs = list(zip(lines.tolist(), full.seconds_of_beat(lines).tolist(), [*meters, meters[-1]], strict=True))
    before = [(k, m) for k, at, m in pairs if at < stretch[0]]
    after = [(k, m) for k, at, m in pairs if at > stretch[1]]
    own = [m for _, at, m in pairs[:-1] if stretch[0] <= at <= stretch[1]]
    main = max(own, key=own.count)
    beats = full.beats()
    seconds = beats.seconds[(beats.seconds >= stretch[0]) & (beats.seconds <= stretch[1])]
    first = int(beats.index[np.searchsorted(beats.seconds, seconds[0])])
    evidence, alike = _evidence(recording, seconds, np.isin(np.arange(first, first + len(seconds)), lines))
    division = divide(evidence + _said(full, seconds, document), alike, main.beats, others={m.beats for m in own})
    found = (division.downbeats + first).tolist()
    if not before:
        opens = next((k for k in found if k >= lines[0] - main.beats / 2), found[0])
        found = [k for k in found if k >= opens]
    made = [*before, *((k, main) for k in found), *after]
    return with_lines(full, [k for k, _ in made], [m for _, m in made])


def _evidence(recording: Recording, seconds: Floats, is_line: NDArray[np.bool_]) -> tuple[Floats, Floats]:
    """What sounds like a downbeat at each beat, and how alike beats are; without evidence the bar lines stay where
    nothing was said."""
    try:
        context = recording.context()
        frames = np.clip(np.round(seconds * FRAME_RATE).astype(np.int64), 0, len(context.onset_envelope) - 1)
        return downbeat_evidence(context, frames), likeness(context.summed, frames)
    except NoBeats:
        return np.where(is_line, 1.0, -1.0), np.full((len(seconds) - 1, 17), np.nan)


def _said(full: TempoMap, seconds: Floats, document: Document) -> Floats:
    """What was said of each beat: that it is a bar line, or that it is none."""
    worth = np.zeros(len(seconds))

    def say(at: float, is_line: bool) -> None:
        if seconds[0] - _NEAR <= at <= seconds[-1] + _NEAR:
            worth[int(np.argmin(np.abs(seconds - at)))] = _SAID if is_line else -_SAID

    for statement in document.statements:
        match statement:
            case Right():
                for at, beat in zip(statement.seconds, statement.beats, strict=True):
                    say(at, beat == 1)
            case BarLine(at, _):
                say(at, True)
            case MeterHere(at, meter, only):
                say(at, True)
                behind = round(float(full.beat_index_at(at))) + read_meter(meter).beats
                if only:
                    say(float(full.seconds_of_beat(behind)), True)
            case BarsHere(start, end, bars, _):
                i, j = (round(float(full.beat_index_at(t))) for t in (start, end))
                for beat in range(i, j + 1):
                    say(float(full.seconds_of_beat(beat)), (beat - i) * bars % max(1, j - i) == 0)
    return worth
