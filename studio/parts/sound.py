"""The sound of parts, block by block, rendered on request."""

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from core import audio
from core.instruments.stream import render_block
from core.instruments.strokes import Strokes, strokes_of
from core.notes import Note
from core.parts import loops
from studio.caches import remembered
from studio.desk.models import MapStep
from studio.parts.models import Part, PartStep
from studio.parts.sound_sets import player_of

#: Samples that are made at a time.
_PIECE = 1 << 20


@remembered(128)  # some 100 kB each
def _notes(part_step: PartStep, map_step: MapStep) -> list[Note]:
    notes = part_step.notes_in_seconds(map_step.tempo_map)  # neither kind of step ever changes
    if map_step.clock is None or part_step.rides:
        return notes
    starts, ends = (map_step.clock.to_target([getattr(n, side) for n in notes]) for side in ("start", "end"))
    return [replace(n, start=float(a), end=float(b)) for n, a, b in zip(notes, starts, ends, strict=True)]


def notes_of(part: Part, map_step: MapStep) -> list[Note]:
    """Where a part's notes sound now."""
    return _notes(part.now, map_step)


@remembered(64)  # some 100 kB each
def _strokes(part_step: PartStep, map_step: MapStep, instrument: str) -> Strokes:
    return strokes_of(_notes(part_step, map_step), instrument)


@remembered(3)  # a take of four minutes in stereo is some 90 MB
def _loop(part: Part, part_step: PartStep, map_step: MapStep) -> NDArray[Any]:
    """All of a loop as it follows a map, (frames, 2)."""
    rate = part.session.sample_rate
    source = _two_sides(audio.read(part.loop, 0, audio.inspect(part.loop).frames))
    hits = loops.attacks_in(source, rate)
    notes = _notes(part_step, map_step)
    frames = max(part.session.frames, round(rate * max((n.end for n in notes), default=0.0)))
    return loops.render_loop(source, rate, part.beats, notes, frames, hits)


def _two_sides(samples: NDArray[Any]) -> NDArray[Any]:
    """As it is where there are two channels; else the mean of all on both sides."""
    return samples if samples.shape[1] == 2 else np.repeat(samples.mean(axis=1, keepdims=True), 2, axis=1)


def block(part: Part, map_step: MapStep, rate: int, start: int, frames: int) -> NDArray[Any]:
    """``(frames, 2)`` float32 samples of a part from sample ``start`` on."""
    if part.is_loop:
        found = _loop(part, part.now, map_step)[start : start + frames]
        return np.pad(found, ((0, frames - len(found)), (0, 0)))
    return render_block(_strokes(part.now, map_step, part.instrument), player_of(part), rate, start, frames)


def for_file(part: Part, map_step: MapStep, rate: int, frames: int) -> Iterator[NDArray[Any]]:
    """The first ``frames`` samples of a part for a file of its own, piece by piece; turned down as a whole where it
    would clip."""
    level = 1.0
    for piece in _pieces(part, map_step, rate, frames):
        level = min(level, 1 / max(1.0, float(np.abs(piece).max())))
    for piece in _pieces(part, map_step, rate, frames):
        yield level * piece


def _pieces(part: Part, map_step: MapStep, rate: int, frames: int) -> Iterator[NDArray[Any]]:
    for at in range(0, frames, _PIECE):
        yield block(part, map_step, rate, at, min(_PIECE, frames - at))
