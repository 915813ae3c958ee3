"""Waveform peaks at several resolutions, so that any zoom draws from about as many values as pixels."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from core.audio.files import Samples

Peaks = NDArray[np.int16]

#: Samples a bin at each level; below the finest the samples themselves are drawn.
LEVELS = (64, 256, 1024, 4096, 16384)
FULL_SCALE = 32767


class PeakMaker:
    """Takes blocks of a recording and keeps the lowest and highest value of every bin."""

    def __init__(self) -> None:
        self._rest: Samples = np.zeros((0, 1), dtype=np.float32)
        self._finest: list[Peaks] = []

    def add(self, block: Samples) -> None:
        """``block`` is ``(frames, channels)``; channels are drawn as one envelope."""
        if len(self._rest):
            block = np.concatenate([self._rest, block])
        whole = len(block) // LEVELS[0] * LEVELS[0]
        self._rest = block[whole:]
        if whole:
            self._finest.append(_extremes(block[:whole], LEVELS[0]))

    def levels(self) -> dict[int, Peaks]:
        """Per samples-a-bin an int16 array ``(bins, 2)`` of lowest and highest, full scale 32767."""
        parts = list(self._finest)
        if len(self._rest):
            parts.append(_extremes(self._rest, len(self._rest)))
        finest = np.concatenate(parts) if parts else np.zeros((0, 2), dtype=np.int16)
        out = {LEVELS[0]: finest}
        for coarse, fine in zip(LEVELS[1:], LEVELS, strict=False):
            out[coarse] = _merge(out[fine], coarse // fine)
        return out


def _extremes(block: Samples, size: int) -> Peaks:
    """The lowest and the highest value of every ``size`` samples of all channels."""
    pair = _lowest_and_highest(np.ascontiguousarray(block).reshape(-1), size * block.shape[1])
    return np.asarray(np.clip(np.round(pair * FULL_SCALE), -FULL_SCALE, FULL_SCALE), dtype=np.int16)


# no sample is NaN (core.audio.health), and knowing that the compiler compares several at a time
@njit(cache=True, nogil=True, fastmath={"nnan", "nsz"})
def _lowest_and_highest(flat: NDArray[Any], size: int) -> NDArray[Any]:
    """``(bins, 2)`` of ``size`` samples each, the last one of what is left."""
    out = np.empty(((len(flat) + size - 1) // size, 2), dtype=np.float32)
    for k in range(len(out)):
        low = high = flat[k * size]
        for i in range(k * size, min(len(flat), (k + 1) * size)):
            low, high = min(low, flat[i]), max(high, flat[i])
        out[k, 0], out[k, 1] = low, high
    return out


def _merge(fine: Peaks, factor: int) -> Peaks:
    padded = np.pad(fine, ((0, -len(fine) % factor), (0, 0)), mode="edge") if len(fine) else fine
    rows = padded.reshape(-1, factor, 2)
    return np.stack([rows[:, :, 0].min(axis=1), rows[:, :, 1].max(axis=1)], axis=1) if len(rows) else fine
