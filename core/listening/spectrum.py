"""From sound to evidence at 100 frames a second: spectral flux and energy in bands, chroma, new partials.

Spectral flux with a maximum filter across neighbouring bands, which keeps vibrato from looking like
attacks (Böck and Widmer, "Maximum filter vibrato suppression for onset detection", DAFx 2013).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import scipy.fft
from numba import njit
from numpy.typing import NDArray

from core.audio import Samples
from core.audio.windows import periodic_hann
from core.listening.pitches import COUNT as PITCHES
from core.listening.pitches import PITCH_RATE, PitchMaker
from core.listening.rates import FRAME_RATE, HOP, LISTENING_RATE

WINDOW = 1024
#: Edges of the three reported ranges in Hz: bass drums and basses; the body of most sounds; cymbals and consonants.
RANGES = ((30, 180), (180, 2000), (2000, 9500))
#: Edges in Hz of the ranges in which new partials are looked for.
PARTIAL_EDGES = (100, 310, 800, 2000, 5000)

#: The percentile of the strongest attacks.
_STRONGEST = 99.5

Frames = NDArray[np.float32]
Halves = NDArray[np.float16]


def band_edges() -> NDArray[np.float64]:
    """Centres of quarter-octave bands from 30 Hz to 9.5 kHz, at least one bin apart."""
    bins = np.unique(np.round(30 * 2 ** np.arange(0, 8.31, 0.25) / (LISTENING_RATE / WINDOW)))
    return np.asarray(np.maximum(bins, 1))


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
#: Both at once, ``(bins, bands + 12)``.
_BANKS = np.hstack([BANK, CHROMA_BANK])
#: ``(bands, 3)``: the mean of the bands of each of the :data:`RANGES`.
_RANGE_MEANS = np.stack([(lo <= CENTRES) & (hi > CENTRES) for lo, hi in RANGES], axis=1).astype(np.float32)
_RANGE_MEANS /= _RANGE_MEANS.sum(axis=0)
#: With it the spectrum of a full-scale sine is about 1/2.
_TAPER = np.float32(2 / WINDOW) * periodic_hann(WINDOW)


@dataclass(frozen=True)
class Evidence:
    """One track's evidence, 100 frames a second; frame i is centred on i/100 s.

    Attributes
    ----------
    flux : float32, (frames, 3)
        Spectral flux in the three :data:`RANGES`.
    energy : float32, (frames, 3)
        Log energy there.
    chroma : float32, (frames, 12)
        Pitch classes, C first, not normalised.
    partial_flux : float32, (frames, 4)
        Rise of single partials between the :data:`PARTIAL_EDGES`: new notes of a bow, a voice or an organ, which no
        band shows.
    bands : float16, (frames, 28)
        Log energy of quarter-octave bands.
    pitches : float16, (slow frames, 54)
        Log amplitude of semitones, 25 frames a second (:mod:`core.listening.pitches`).
    """

    flux: Frames
    energy: Frames
    chroma: Frames
    partial_flux: Frames
    bands: Halves
    pitches: Halves

    def __len__(self) -> int:
        return len(self.flux)

    @cached_property
    def percussiveness(self) -> float:
        """How strongly the track's strongest attacks rise over all bands at once: drums 4 to 6, a bow under 1. The
        99.5th percentile of the flux summed over all ranges."""
        return float(np.percentile(self.flux.sum(axis=1), _STRONGEST)) if len(self) else 0.0

    @classmethod
    def of_silence(cls, frames: int) -> Evidence:
        """``frames`` frames in which nothing sounds."""
        slow = int(np.ceil(frames * PITCH_RATE / FRAME_RATE))
        flux, energy, chroma, partial_flux = (
            np.zeros((frames, n), dtype=np.float32) for n in (3, 3, 12, len(PARTIAL_EDGES) - 1)
        )
        bands, pitches = np.zeros((frames, len(CENTRES)), np.float16), np.zeros((slow, PITCHES), np.float16)
        return cls(flux, energy, chroma, partial_flux, bands, pitches)


def evidence(blocks: Iterable[Samples]) -> Evidence:
    """Evidence from consecutive mono blocks at the listening rate, in bounded memory."""
    # half a window of silence in front centres frame 0 on time 0
    rest: Samples = np.zeros(WINDOW // 2, dtype=np.float32)
    past = None
    parts: list[_Parts] = []
    total = 0
    pitch_maker = PitchMaker()
    for block in blocks:
        total += len(block)
        pitch_maker.add(block)
        rest = np.concatenate([rest, block])
        # what was before the recording is told by more than its first block, where blocks are small
        if past or len(rest) >= WINDOW + _FIRST * HOP:
            past, rest = _consume(rest, past, parts)
    rest = np.concatenate([rest, np.zeros(WINDOW, dtype=np.float32)])
    _consume(rest, past, parts)
    count = total // HOP + 1
    pitches = pitch_maker.finish().astype(np.float16)
    if not parts:
        return Evidence.of_silence(count)
    flux, energy, chroma, partial_flux, bands = (np.concatenate(p)[:count] for p in zip(*parts, strict=True))
    return Evidence(flux, energy, chroma, partial_flux, bands, pitches)


_LAG = 2
#: Frames of a recording's beginning that tell what was before it, and the share of them that may be softer.
_FIRST, _SOFT = 2 * round(FRAME_RATE), 0.25
#: Frames whose spectra are made at once: few enough to stay in the processor's cache.
_SLICE = 512
_PARTIAL_BINS = np.round(np.array(PARTIAL_EDGES) * WINDOW / LISTENING_RATE).astype(int)
#: Partials this far below the recent maximum are left out: there the sidelobes of held partials fluctuate. And the
#: level below which everything is silence.
_MASKING, _SILENCE = 0.002, 1 / 20_000
#: Decay of the recent maximum: 20 dB a second, in nepers a frame.
_DECAY = np.log(10) / FRAME_RATE
_Parts = tuple[Frames, Frames, Frames, Frames, Halves]


@dataclass
class _Past:
    """What one block hands to the next: the last frames' log bands and log bins, and the recent maximum (nepers)."""

    bands: Frames
    bins: Frames
    loudest: float


def _consume(signal: Samples, past: _Past | None, parts: list[_Parts]) -> tuple[_Past | None, Samples]:
    count = (len(signal) - WINDOW) // HOP + 1
    if count < 1:
        return past, signal
    frames = np.lib.stride_tricks.sliding_window_view(signal, WINDOW)[: (count - 1) * HOP + 1 : HOP]
    for i in range(0, count, _SLICE):
        spectrum = np.abs(scipy.fft.rfft(frames[i : i + _SLICE] * _TAPER, axis=1))
        sums = spectrum @ _BANKS
        log = np.log1p(2000 * sums[:, : len(CENTRES)])
        bins = spectrum[:, _PARTIAL_BINS[0] : _PARTIAL_BINS[-1]]
        loudest = _running_maximum(np.log(bins.max(axis=1) + 1e-9), past.loudest if past else -np.inf)
        bins = np.log1p(bins / np.maximum(_MASKING * np.exp(loudest), _SILENCE)[:, None].astype(np.float32))
        if past is None:
            before, bins_before = (np.tile(level_before(levels), (_LAG, 1)) for levels in (log, bins))
            past = _Past(before, bins_before, 0.0)
        rise, past.bands = _rise(log, past.bands)
        joined = np.concatenate([past.bins, bins])
        past.bins, past.loudest = joined[-_LAG:], float(loudest[-1])
        parts.append(
            (
                rise @ _RANGE_MEANS,
                log @ _RANGE_MEANS,
                sums[:, len(CENTRES) :],
                _partial_flux(joined, _PARTIAL_BINS - _PARTIAL_BINS[0]),
                log.astype(np.float16),
            )
        )
    return past, signal[count * HOP :]


def level_before(levels: NDArray[Any], frame_rate: float = FRAME_RATE) -> Frames:
    """What a recording sounded like just before it begins, ``(bands,)``: as in one of the soft frames of its first two
    seconds. So one that is cut on its first note has an attack there, and the noise of a room has none. ``levels``:
    ``(frames, bands)``, ``frame_rate`` a second."""
    first = levels[: round(_FIRST * frame_rate / FRAME_RATE)].astype(np.float32)
    by_level = np.argsort(first.sum(axis=1), kind="stable")
    return np.asarray(first[by_level[int(_SOFT * (len(first) - 1))]])


def _running_maximum(level: NDArray[np.float64], before: float) -> NDArray[np.float64]:
    """The maximum of ``level`` (nepers) up to each frame, starting from ``before``, decaying by :data:`_DECAY`."""
    decay = np.arange(len(level) + 1) * _DECAY
    return np.asarray(np.maximum.accumulate(np.append(before, level) + decay)[1:] - decay[1:])


def _rise(log: Frames, past: Frames) -> tuple[Frames, Frames]:
    """How far each band rises above itself and its neighbours :data:`_LAG` frames before; with the last frames."""
    joined = np.concatenate([past, log])
    before = joined[: len(log)]
    wide = before.copy()
    wide[:, 1:] = np.maximum(wide[:, 1:], before[:, :-1])
    wide[:, :-1] = np.maximum(wide[:, :-1], before[:, 1:])
    return np.maximum(log - wide, 0), joined[-_LAG:]


@njit(cache=True, nogil=True, fastmath=True)
def _partial_flux(joined: NDArray[Any], edges: NDArray[Any]) -> NDArray[Any]:
    """The mean rise of the bins of each range over their neighbours :data:`_LAG` frames before: one on either side, in
    the highest range two, where vibrato sways farther. ``joined`` begins with the :data:`_LAG` frames before."""
    ranges, bins = len(edges) - 1, joined.shape[1]
    out = np.empty((len(joined) - _LAG, ranges), dtype=np.float32)
    one, two = np.empty(bins, dtype=np.float32), np.empty(bins, dtype=np.float32)
    for k in range(len(out)):
        before, now = joined[k], joined[k + _LAG]
        one[0], one[bins - 1] = max(before[0], before[1]), max(before[bins - 2], before[bins - 1])
        for j in range(1, bins - 1):
            one[j] = max(max(before[j - 1], before[j]), before[j + 1])
        two[0], two[bins - 1] = max(one[0], one[1]), max(one[bins - 2], one[bins - 1])
        for j in range(1, bins - 1):
            two[j] = max(one[j - 1], one[j + 1])
        for r in range(ranges):
            top = two if r == ranges - 1 else one
            total = np.float32(0)
            for j in range(edges[r], edges[r + 1]):
                total += max(now[j] - top[j], np.float32(0))
            out[k, r] = total / (edges[r + 1] - edges[r])
    return out
