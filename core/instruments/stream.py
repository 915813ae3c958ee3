"""The sound of a part, block by block: the same samples wherever the blocks begin."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from core.instruments.kit import INSTRUMENTS
from core.notes import Note


@lru_cache(maxsize=1024)
def _sound(instrument: str, rate: int, pitch: int, milliseconds: int, velocity: int) -> NDArray[np.float32]:
    noise = np.random.default_rng((pitch, velocity))
    sound = INSTRUMENTS[instrument].voice(rate, pitch, milliseconds / 1000, velocity / 127, noise)
    return (0.6 * sound).astype(np.float32)


def render_block(notes: Sequence[Note], instrument: str, rate: int, start: int, frames: int) -> NDArray[np.float32]:
    """``frames`` mono samples from sample ``start`` on; each note begins at ``round(seconds * rate)``.

    ``instrument``: one of :data:`core.instruments.kit.INSTRUMENTS`. Raises ``KeyError``.
    """
    out = np.zeros(frames, dtype=np.float32)
    earliest = start / rate - INSTRUMENTS[instrument].tail
    latest = (start + frames) / rate + 1 / rate
    for n in notes:
        if n.start > latest or max(n.end, n.start + 2.0) < earliest:
            continue
        sound = _sound(instrument, rate, n.pitch, max(20, round(1000 * (n.end - n.start))), n.velocity)
        at = round(n.start * rate) - start
        first, last = max(0, at), min(frames, at + len(sound))
        if last > first:
            out[first:last] += sound[first - at : last - at]
    return out
