"""The sound of parts, block by block, rendered when it is asked for."""

from functools import lru_cache

import numpy as np

from core.formats.smf import Note
from core.instruments.stream import stretch
from studio.desk.models import MapStep
from studio.parts.models import Part, PartStep


@lru_cache(maxsize=128)
def _sounding(part_step: PartStep, map_step: MapStep) -> list[Note]:
    return part_step.sounding(map_step.tempo_map)  # neither kind of step ever changes


def notes_of(part: Part, map_step: MapStep) -> list[Note]:
    """Where a part's notes sound now."""
    return _sounding(part.step, map_step)


def block(part: Part, map_step: MapStep, rate: int, start: int, frames: int) -> np.ndarray:
    """``(frames, 1)`` float32 samples of a part from sample ``start`` on."""
    return stretch(notes_of(part, map_step), part.instrument, rate, start, frames)[:, None]
