"""The sound of parts, block by block, rendered when it is asked for."""

from functools import lru_cache

import numpy as np

from core.following import loops
from core.formats.smf import Note
from core.instruments.stream import stretch
from core.listening import audio
from studio.desk.models import MapStep
from studio.parts.models import Part, PartStep


@lru_cache(maxsize=128)
def _sounding(part_step: PartStep, map_step: MapStep) -> list[Note]:
    return part_step.sounding(map_step.tempo_map)  # neither kind of step ever changes


def notes_of(part: Part, map_step: MapStep) -> list[Note]:
    """Where a part's notes sound now."""
    return _sounding(part.step, map_step)


@lru_cache(maxsize=3)
def _loop(part: Part, part_step: PartStep, map_step: MapStep) -> np.ndarray:
    """All of a loop as it follows a map."""
    rate = part.session.rate
    source = audio.read(part.loop, 0, audio.inspect(part.loop).frames)
    hits = loops.attacks_in(source, rate)
    notes = _sounding(part_step, map_step)
    return loops.sounded(source, rate, part.beats, notes, round(part.session.seconds * rate), hits)


def block(part: Part, map_step: MapStep, rate: int, start: int, frames: int) -> np.ndarray:
    """``(frames, 1)`` float32 samples of a part from sample ``start`` on."""
    if part.is_loop:
        found = _loop(part, part.step, map_step)[start : start + frames].mean(axis=1)
        return np.pad(found, (0, frames - len(found)))[:, None]
    return stretch(notes_of(part, map_step), part.instrument, rate, start, frames)[:, None]
