"""The sound of parts, block by block, rendered on request."""

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from core import audio
from core.instruments.stream import render_block
from core.notes import Note
from core.parts import loops
from studio.caches import remembered
from studio.desk.models import MapStep
from studio.parts.models import Part, PartStep


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


@remembered(3)  # a take of four minutes in stereo is some 90 MB
def _loop(part: Part, part_step: PartStep, map_step: MapStep) -> NDArray[Any]:
    """All of a loop as it follows a map."""
    rate = part.session.sample_rate
    source = audio.read(part.loop, 0, audio.inspect(part.loop).frames)
    hits = loops.attacks_in(source, rate)
    notes = _notes(part_step, map_step)
    frames = max(part.session.frames, round(rate * max((n.end for n in notes), default=0.0)))
    return loops.render_loop(source, rate, part.beats, notes, frames, hits)


def block(part: Part, map_step: MapStep, rate: int, start: int, frames: int) -> NDArray[Any]:
    """``(frames, 1)`` float32 samples of a part from sample ``start`` on."""
    if part.is_loop:
        found = _loop(part, part.now, map_step)[start : start + frames].mean(axis=1)
        return np.pad(found, (0, frames - len(found)))[:, None]
    return render_block(notes_of(part, map_step), part.instrument, rate, start, frames)[:, None]
