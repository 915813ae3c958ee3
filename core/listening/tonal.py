"""Tones in a track: the peaks of its spectrum as pitches, the tuning they share, and chroma over stretches of time."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import scipy.fft
from numpy.typing import ArrayLike, NDArray

from core.audio import Samples
from core.audio.windows import periodic_hann

Floats = NDArray[np.float64]
#: Samples a second that tones are looked for at: they matter up to some 2 kHz.
RATE = 8_000
#: About half a second, so that neighbouring semitones part from 110 Hz on.
WINDOW, HOP = 4096, 1024
#: From a bass guitar's lowest string on (E1, 41 Hz) to where overtones are all there is.
_LOWEST, _HIGHEST = 38.0, 2000.0
#: Spectra that are made at once.
_AT_ONCE = 512
#: A peak's least size beside its frame's largest (-50 dB).
_LEAST_PEAK = 0.003
#: Pitch (MIDI) above which peaks tell the tuning: lower ones are too coarse. Semitones around the guess that count.
_TUNES_ABOVE, _TUNING_WIDTHS = 50, (0.25, 0.12)
#: Semitones by which a peak may lie beside its note; semitones in which the weight of peaks above a pitch falls to 1/e.
_BESIDE_NOTE, _FALL, _FALLS_ABOVE = 0.25, 18, 60


@dataclass(frozen=True)
class Tones:
    """Spectral peaks as parallel arrays: ``seconds`` of the frame's centre, ``pitch`` as a fractional MIDI note
    number (A4 = 440 Hz is 69), ``weight`` as the square root of the amplitude."""

    seconds: Floats
    pitch: Floats
    weight: Floats


def tones(blocks: Iterable[Samples]) -> Tones:
    """The tones in consecutive mono blocks at :data:`RATE`, in bounded memory."""
    taper = periodic_hann(WINDOW)
    rest: Samples = np.zeros(WINDOW // 2, dtype=np.float32)
    frame, found = 0, []
    for block in [*blocks, np.zeros(WINDOW, dtype=np.float32)]:
        rest = np.concatenate([rest, block])
        count = (len(rest) - WINDOW) // HOP + 1
        if count < 1:
            continue
        view = np.lib.stride_tricks.sliding_window_view(rest, WINDOW)[: (count - 1) * HOP + 1 : HOP]
        for i in range(0, count, _AT_ONCE):
            found.append(_peaks(np.abs(scipy.fft.rfft(view[i : i + _AT_ONCE] * taper, axis=1)), frame + i))
        frame += count
        rest = rest[count * HOP :]
    joined = [np.concatenate(x) for x in zip(*found, strict=True)] if found else [np.zeros(0)] * 3
    return Tones(*joined)


def _peaks(spectrum: NDArray[np.float32], first: int) -> tuple[Floats, Floats, Floats]:
    """Local maxima within 50 dB of their frame's largest, refined by a parabola through the logarithm
    (Smith and Serra, "PARSHL", 1987)."""
    low, high = int(_LOWEST * WINDOW / RATE), int(_HIGHEST * WINDOW / RATE)
    middle = spectrum[:, low:high]
    top = spectrum[:, low:high].max(axis=1, keepdims=True)
    is_peak = (middle > spectrum[:, low - 1 : high - 1]) & (middle >= spectrum[:, low + 1 : high + 1])
    is_peak &= (middle > _LEAST_PEAK * top) & (middle > 1e-3)
    row, col = np.nonzero(is_peak)
    k = col + low
    a, b, c = (np.log(spectrum[row, k + d].astype(np.float64) + 1e-12) for d in (-1, 0, 1))
    shift = 0.5 * (a - c) / np.minimum(a - 2 * b + c, -1e-9)
    hz = (k + np.clip(shift, -0.5, 0.5)) * RATE / WINDOW
    return (first + row) * HOP / RATE, 69 + 12 * np.log2(hz / 440), np.sqrt(np.exp(b))


def joined(parts: Iterable[Tones]) -> Tones:
    """Tones of several tracks as one."""
    parts = list(parts)
    return Tones(*(np.concatenate([getattr(p, n) for p in parts]) for n in ("seconds", "pitch", "weight")))


def tuning(found: Tones) -> float:
    """Cents by which the take lies above equal temperament on A4 = 440 Hz (ISO 16), -50 to 50.

    The circular mean of all peaks' distances from their nearest semitone, sharpened around its own first guess.
    """
    use = found.pitch > _TUNES_ABOVE
    if not use.any():
        return 0.0
    off, weight = found.pitch[use] % 1.0, found.weight[use] ** 2
    centre = float(np.angle((weight * np.exp(2j * np.pi * off)).sum()) / (2 * np.pi))
    # peaks between the notes (noise, sliding tones) would pull it: only those near the first guess count
    for width in _TUNING_WIDTHS:
        away = (off - centre + 0.5) % 1.0 - 0.5
        near = np.abs(away) < width
        if near.any():
            centre += float(np.average(away[near], weights=weight[near]))
    return 100 * ((centre + 0.5) % 1.0 - 0.5)


def in_key(found: Tones, cents: float = 0.0) -> tuple[NDArray[np.int64], Floats]:
    """The nearest MIDI pitch of each tone in a take tuned ``cents`` high, and its weight: less the farther it lies
    from that pitch."""
    pitch = found.pitch - cents / 100
    nearest = np.round(pitch)
    return nearest.astype(np.int64), found.weight * np.exp(-0.5 * ((pitch - nearest) / _BESIDE_NOTE) ** 2)


def chroma(found: Tones, edges: ArrayLike, cents: float = 0.0) -> Floats:
    """``(len(edges) - 1, 12)``: strength of the pitch classes between consecutive times, C first.

    Peaks count less the farther they lie from the tuned semitone, and the higher they are, as those are mostly
    overtones.
    """
    edges = np.asarray(edges, dtype=np.float64)
    nearest, worth = in_key(found, cents)
    worth = worth * np.exp(-np.maximum(0, found.pitch - cents / 100 - _FALLS_ABOVE) / _FALL)
    place = np.searchsorted(edges, found.seconds, side="right") - 1
    inside = (place >= 0) & (place < len(edges) - 1)
    out = np.zeros((len(edges) - 1, 12))
    np.add.at(out, (place[inside], nearest[inside] % 12), worth[inside])
    return out
