"""Notes in seconds to samples."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from core.instruments.voices import Voice
from core.notes import Note


def render_notes(
    notes: Iterable[Note], voice: Voice, rate: int, frames: int, rng: np.random.Generator
) -> NDArray[np.float64]:
    """Notes as ``frames`` mono samples; each starts at its nearest sample."""
    out = np.zeros(frames)
    for n in notes:
        at = round(n.start * rate)
        sound = voice(rate, n.pitch, n.end - n.start, n.velocity / 127, rng)[: max(0, frames - at)]
        out[at : at + len(sound)] += sound
    return out
