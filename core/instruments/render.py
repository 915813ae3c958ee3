"""Notes in seconds to samples."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from core.instruments.voices import Voice
from core.listening.track import Progress, no_progress
from core.notes import Note

#: Notes between two signs of progress.
_TELL_EVERY = 50


def render_notes(
    notes: Sequence[Note],
    voice: Voice,
    rate: int,
    frames: int,
    rng: np.random.Generator,
    progress: Progress = no_progress,
) -> NDArray[np.float64]:
    """Notes as ``frames`` mono samples; each starts at its nearest sample."""
    out = np.zeros(frames)
    for k, n in enumerate(notes):
        if k % _TELL_EVERY == 0:
            progress(k / len(notes))
        at = round(n.start * rate)
        sound = voice(rate, n.pitch, n.end - n.start, n.velocity / 127, rng)[: max(0, frames - at)]
        out[at : at + len(sound)] += sound
    return out
