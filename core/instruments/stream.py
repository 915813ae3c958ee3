"""Any stretch of a part's sound, the same samples however it is cut: what the player streams block by block."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from core.formats.smf import Note
from core.instruments.kit import INSTRUMENTS


@lru_cache(maxsize=1024)
def _sound(instrument: str, rate: int, pitch: int, milliseconds: int, velocity: int) -> NDArray[np.float32]:
    noise = np.random.default_rng((pitch, velocity))
    sound = INSTRUMENTS[instrument].voice(rate, pitch, milliseconds / 1000, velocity / 127, noise)
    return (0.6 * sound).astype(np.float32)


def stretch(notes: Sequence[Note], instrument: str, rate: int, start: int, frames: int) -> NDArray[np.float32]:
    """``frames`` mono samples from sample ``start`` on; each note begins at ``round(seconds * rate)``.

    ``instrument``: one of :data:`core.instruments.kit.INSTRUMENTS`. Raises ``KeyError``.
    """
    out = np.zeros(frames, dtype=np.float32)
    reach = start / rate - INSTRUMENTS[instrument].tail
    until = (start + frames) / rate + 1 / rate
    for n in notes:
        if n.start > until or max(n.end, n.start + 2.0) < reach:
            continue
        sound = _sound(instrument, rate, n.pitch, max(20, round(1000 * (n.end - n.start))), n.velocity)
        at = round(n.start * rate) - start
        first, last = max(0, at), min(frames, at + len(sound))
        if last > first:
            out[first:last] += sound[first - at : last - at]
    return out
