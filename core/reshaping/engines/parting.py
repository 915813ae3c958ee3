"""Percussive and tonal parts apart: the tonal part lies along time in the spectrogram, the percussive one across it.

Median filtering after Fitzgerald (DAFx 2010); soft masks; both parts together are the recording again, to the sample.
As the filters are finite, any piece of a recording comes out the same however it is cut into blocks.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy import fft

from core.audio import Samples
from core.audio.windows import periodic_hann
from core.reshaping.sources import SampleSource

#: Seconds a frame lasts, about; frames overlap fourfold.
_FRAME = 0.02
_OVERLAP = 4
#: The median along time spans so many seconds, that across frequency so many Hz.
_LONG, _WIDE = 0.2, 500.0
#: Frames worked out at once.
_PIECE = 160


class TonalPart:
    """The tonal part of a source, as a source; what is left is the percussive one."""

    def __init__(self, source: SampleSource) -> None:
        self.whole = source
        self.rate, self.channels, self.frames = source.rate, source.channels, source.frames
        self.size = int(2 ** np.round(np.log2(_FRAME * source.rate)))
        self.hop = self.size // _OVERLAP
        self.window = periodic_hann(self.size)
        self.along = 2 * round(_LONG * source.rate / self.hop / 2) + 1
        self.across = 2 * round(_WIDE * self.size / source.rate / 2) + 1
        self._pieces: dict[int, Samples] = {}

    def read(self, start: int, stop: int) -> Samples:
        out = np.empty((max(0, stop - start), self.channels), dtype=np.float32)
        length = _PIECE * self.hop
        for k in range(start // length, (stop - 1) // length + 1):
            piece = self._piece(k)
            a, b = max(start, k * length), min(stop, (k + 1) * length)
            out[a - start : b - start] = piece[a - k * length : b - k * length]
        return out

    def _piece(self, k: int) -> Samples:
        if k not in self._pieces:
            if len(self._pieces) > 2:  # readers go forwards
                del self._pieces[min(self._pieces)]
            self._pieces[k] = self._made(k)
        return self._pieces[k]

    def _made(self, k: int) -> Samples:
        """The tonal part of piece ``k``: every frame that touches it, and half a median more on either side."""
        length, size, hop = _PIECE * self.hop, self.size, self.hop
        first = k * _PIECE - (_OVERLAP - 1)  # frames begin at multiples of the hop
        count = _PIECE + _OVERLAP - 1
        half = self.along // 2
        low = (first - half) * hop
        block = self.whole.read(low, low + (count + 2 * half - 1) * hop + size)
        frames = np.lib.stride_tricks.sliding_window_view(block, size, axis=0)[::hop]  # (frames, channels, size)
        spectra = fft.rfft(frames * self.window, axis=-1)
        loud = np.sqrt(np.mean(np.abs(spectra) ** 2, axis=1)).astype(np.float32)
        tonal = running_median(np.ascontiguousarray(loud.T), self.along).T[half : half + count] ** 2
        struck = running_median(loud[half : half + count], self.across) ** 2
        mask = (tonal + 1e-20) / (tonal + struck + 2e-20)
        made = fft.irfft(spectra[half : half + count] * mask[:, None, :], size, axis=-1).astype(np.float32)
        made *= self.window / np.float32(_OVERLAP * np.mean(self.window**2))
        out = np.zeros(((count - 1) * hop + size, self.channels), dtype=np.float32)
        for j, frame in enumerate(made):
            out[j * hop : j * hop + size] += frame.T
        begins = k * length - first * hop
        return out[begins : begins + length]


class PercussivePart:
    """What the tonal part leaves of its source."""

    def __init__(self, tonal: TonalPart) -> None:
        self.tonal = tonal
        self.rate, self.channels, self.frames = tonal.rate, tonal.channels, tonal.frames

    def read(self, start: int, stop: int) -> Samples:
        return self.tonal.whole.read(start, stop) - self.tonal.read(start, stop)


@njit(cache=True, nogil=True)
def running_median(rows: NDArray[np.float32], width: int) -> NDArray[np.float32]:
    """Median over ``width`` (odd) neighbours along the last axis of ``(rows, n)``; fewer at the edges."""
    count, n = rows.shape
    out = np.empty((count, n), dtype=np.float32)
    half = width // 2
    held = np.empty(width + 1, dtype=np.float32)
    for r in range(count):
        size = 0
        for i in range(min(half, n)):  # what the first window has to the right, sorted in
            size = _put_in(held, size, rows[r, i])
        for i in range(n):
            if i + half < n:
                size = _put_in(held, size, rows[r, i + half])
            if i - half - 1 >= 0:
                size = _take_out(held, size, rows[r, i - half - 1])
            out[r, i] = held[size // 2]
    return out


@njit(cache=True, nogil=True, inline="always")
def _put_in(held: NDArray[np.float32], size: int, value: float) -> int:
    at = size
    while at > 0 and held[at - 1] > value:
        held[at] = held[at - 1]
        at -= 1
    held[at] = value
    return size + 1


@njit(cache=True, nogil=True, inline="always")
def _take_out(held: NDArray[np.float32], size: int, value: float) -> int:
    at = 0
    while held[at] != value:
        at += 1
    for k in range(at, size - 1):
        held[k] = held[k + 1]
    return size - 1
