"""From sound to evidence at 100 frames a second: attack strength in bands, low energy, chroma.

Spectral flux with a maximum filter across neighbouring bands, which keeps vibrato from looking like
attacks (Böck and Widmer, "Maximum filter vibrato suppression for onset detection", DAFx 2013).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import scipy.fft
from numpy.typing import NDArray

from core.listening.audio import LISTENING_RATE, Samples

HOP = 200
FRAME_RATE = LISTENING_RATE / HOP
WINDOW = 1024
#: Edges of the three reported ranges in Hz: bass drums and basses, bodies, sticks and consonants.
RANGES = ((30, 180), (180, 2000), (2000, 9500))

Frames = NDArray[np.float32]


def band_edges() -> NDArray[np.float64]:
    """Centres of quarter-octave bands from 30 Hz to 9.5 kHz, at least one bin apart."""
    bins = np.unique(np.round(30 * 2 ** np.arange(0, 8.31, 0.25) / (LISTENING_RATE / WINDOW)))
    return np.maximum(bins, 1)


def _filterbank() -> tuple[Frames, NDArray[np.float64]]:
    """Triangular bands over the spectrum's bins, each of area 1; with their centres in Hz."""
    edges = np.unique(band_edges())
    bank = np.zeros((WINDOW // 2 + 1, len(edges) - 2), dtype=np.float32)
    k = np.arange(WINDOW // 2 + 1)
    for i, (lo, mid, hi) in enumerate(zip(edges, edges[1:], edges[2:], strict=False)):
        rise, fall = (k - lo) / (mid - lo), (hi - k) / (hi - mid)
        shape = np.clip(np.minimum(rise, fall), 0, None)
        bank[:, i] = shape / shape.sum()
    return bank, edges[1:-1] * LISTENING_RATE / WINDOW


def _chroma_bank() -> Frames:
    """Weights from bins to the 12 pitch classes (A4 = 440 Hz), 100 Hz to 2 kHz."""
    f = np.arange(WINDOW // 2 + 1) * LISTENING_RATE / WINDOW
    bank = np.zeros((len(f), 12), dtype=np.float32)
    for k in np.flatnonzero((f >= 100) & (f <= 2000)):
        pitch = 69 + 12 * np.log2(f[k] / 440)
        for c in range(12):
            distance = (pitch - c + 6) % 12 - 6
            bank[k, c] = np.exp(-0.5 * (distance / 0.6) ** 2)
    return bank


BANK, CENTRES = _filterbank()
CHROMA_BANK = _chroma_bank()
_TAPER = np.hanning(WINDOW + 1)[:-1].astype(np.float32)


@dataclass(frozen=True)
class Evidence:
    """One track's evidence, float32 arrays over frames of 1/100 s; frame i is centred on i/100 s.

    ``flux``: ``(frames, 3)`` attack strength in the three :data:`RANGES`; ``energy``: ``(frames, 3)``
    log energy there; ``chroma``: ``(frames, 12)`` unnormalised pitch classes.
    """

    flux: Frames
    energy: Frames
    chroma: Frames

    def __len__(self) -> int:
        return len(self.flux)


def evidence(blocks: Iterable[Samples]) -> Evidence:
    """Evidence from consecutive mono blocks at the listening rate, in bounded memory."""
    # half a window of silence in front centres frame 0 on time 0
    rest: Samples = np.zeros(WINDOW // 2, dtype=np.float32)
    history = None
    parts: list[tuple[Frames, Frames, Frames]] = []
    total = 0
    for block in blocks:
        total += len(block)
        rest = np.concatenate([rest, block])
        history, rest = _consume(rest, history, parts)
    rest = np.concatenate([rest, np.zeros(WINDOW, dtype=np.float32)])
    _consume(rest, history, parts)
    count = total // HOP + 1
    if not parts:
        return Evidence(*(np.zeros((count, n), dtype=np.float32) for n in (3, 3, 12)))
    joined = [np.concatenate(p)[:count] for p in zip(*parts, strict=True)]
    return Evidence(*joined)


_LAG = 2
_RANGE_OF_BAND = [np.flatnonzero((lo <= CENTRES) & (hi > CENTRES)) for lo, hi in RANGES]


def _consume(
    signal: Samples, history: Frames | None, parts: list[tuple[Frames, Frames, Frames]]
) -> tuple[Frames | None, Samples]:
    count = (len(signal) - WINDOW) // HOP + 1
    if count < 1:
        return history, signal
    frames = np.lib.stride_tricks.sliding_window_view(signal, WINDOW)[: (count - 1) * HOP + 1 : HOP]
    # in slices, so that the spectra stay small
    for i in range(0, count, 2048):
        spectrum = np.abs(scipy.fft.rfft(frames[i : i + 2048] * _TAPER, axis=1)).astype(np.float32)
        spectrum *= 2.0 / WINDOW
        bands = spectrum @ BANK
        log = np.log1p(2000 * bands)
        if history is None:
            history = np.repeat(log[:1], _LAG, axis=0)
        before = np.concatenate([history, log])[: len(log)]
        wide = before.copy()
        wide[:, 1:] = np.maximum(wide[:, 1:], before[:, :-1])
        wide[:, :-1] = np.maximum(wide[:, :-1], before[:, 1:])
        rise = np.maximum(log - wide, 0)
        flux = np.stack([rise[:, b].mean(axis=1) for b in _RANGE_OF_BAND], axis=1)
        energy = np.stack([log[:, b].mean(axis=1) for b in _RANGE_OF_BAND], axis=1)
        parts.append((flux, energy, spectrum @ CHROMA_BANK))
        history = np.concatenate([history, log])[-_LAG:]
    return history, signal[count * HOP :]
