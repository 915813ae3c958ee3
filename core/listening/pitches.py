"""Strength of every semitone from A1 to D6, 25 frames a second: the input for harmony and bass lines.

A window of a fifth of a second parts semitones from some 90 Hz on, where the short windows of
:mod:`core.listening.spectrum` blur them.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
import scipy.fft
import soxr
from numpy.typing import NDArray

from core.audio import Samples
from core.audio.windows import periodic_hann
from core.listening.rates import LISTENING_RATE

Frames = NDArray[np.float32]

RATE = 5_000
WINDOW, HOP = 1024, 200
PITCH_RATE = RATE / HOP
#: MIDI numbers of the lowest and the highest semitone.
LOWEST, HIGHEST = 33, 86
COUNT = HIGHEST - LOWEST + 1


def _bank() -> Frames:
    """``(bins, semitones)``: triangles a semitone wide either way, at least one bin."""
    hz = np.fft.rfftfreq(WINDOW, 1 / RATE)
    bank = np.zeros((len(hz), COUNT), dtype=np.float32)
    for i, pitch in enumerate(range(LOWEST, HIGHEST + 1)):
        centre = 440 * 2 ** ((pitch - 69) / 12)
        reach = max(centre * (2 ** (1 / 12) - 1), RATE / WINDOW)
        bank[:, i] = np.maximum(0, 1 - np.abs(hz - centre) / reach)
    return bank


BANK = _bank()
#: With it the spectrum of a full-scale sine is about 1/2.
_TAPER = np.float32(2 / WINDOW) * periodic_hann(WINDOW)


class PitchMaker:
    """Takes consecutive mono blocks at the listening rate, in bounded memory."""

    def __init__(self) -> None:
        self._stream = soxr.ResampleStream(LISTENING_RATE, RATE, 1, dtype="float32", quality="LQ")
        # half a window of silence in front centres frame 0 on time 0
        self._rest: Samples = np.zeros(WINDOW // 2, dtype=np.float32)
        self._parts: list[Frames] = []

    def add(self, block: Samples) -> None:
        self._take(self._stream.resample_chunk(block))

    def finish(self) -> Frames:
        """``(frames, semitones)`` as ``log(1 + 2000 * amplitude)``; frame i is centred on ``i / PITCH_RATE`` s."""
        self._take(self._stream.resample_chunk(np.zeros(0, dtype=np.float32), last=True))
        self._take(np.zeros(WINDOW // 2, dtype=np.float32))
        return np.concatenate(self._parts) if self._parts else np.zeros((1, COUNT), dtype=np.float32)

    def _take(self, samples: Samples) -> None:
        signal = np.concatenate([self._rest, samples])
        count = (len(signal) - WINDOW) // HOP + 1
        if count >= 1:
            frames = np.lib.stride_tricks.sliding_window_view(signal, WINDOW)[: (count - 1) * HOP + 1 : HOP]
            for i in range(0, count, 1024):
                spectrum = np.abs(scipy.fft.rfft(frames[i : i + 1024] * _TAPER, axis=1))
                self._parts.append(np.log1p(2000 * (spectrum @ BANK)))
            signal = signal[count * HOP :]
        self._rest = signal


def pitches(blocks: Iterable[Samples]) -> Frames:
    """All blocks at once, see :class:`PitchMaker`."""
    maker = PitchMaker()
    for block in blocks:
        maker.add(block)
    return maker.finish()
