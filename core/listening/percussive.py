"""The percussive part of a finished mix: what is broad in pitch and short in time.

Harmonic-percussive separation by median filters (Fitzgerald, "Harmonic/percussive separation using median filtering",
DAFx 2010): along time a tone's magnitudes stand still, along pitch a stroke's do; each bin goes to the side on which it
stands out, by a soft mask.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import median_filter
from scipy.signal import ShortTimeFFT

from core.listening import attacks, audio
from core.listening.attacks import Attacks
from core.listening.audio import LISTENING_RATE, Samples
from core.listening.spectrum import Evidence, evidence
from core.listening.track import Progress, no_progress

WINDOW, HOP = 1024, 256
#: Widths of the medians: some 0.3 s along time, some 500 Hz along pitch.
_FRAMES, _BINS = 25, 25
#: What is separated at a time, and how much of its neighbours is looked at with it, in samples.
_PIECE, _BESIDE = 60 * LISTENING_RATE, LISTENING_RATE
#: How far separating moves the start of an attack, in seconds.
_SMEARED = 0.02


def separated(signal: Samples) -> Iterator[Samples]:
    """The percussive part of a mono signal at the listening rate, piece by piece, in bounded memory."""
    for start in range(0, len(signal), _PIECE):
        first, last = max(0, start - _BESIDE), min(len(signal), start + _PIECE + _BESIDE)
        piece = _percussive(signal[first:last])
        yield piece[start - first : min(start + _PIECE, len(signal)) - first]


def listen(path: Path, progress: Progress = no_progress) -> tuple[Evidence, Attacks]:
    """Evidence and attacks of a file's percussive part. Raises :class:`core.listening.audio.AudioError`."""
    return hear(np.concatenate(list(audio.mono_at(path, LISTENING_RATE, audio.inspect(path).rate))), progress)


def hear(signal: Samples, progress: Progress = no_progress) -> tuple[Evidence, Attacks]:
    """The same of a mono signal at the listening rate."""
    signal = np.nan_to_num(signal)
    pieces: list[Samples] = []
    for piece in separated(signal):
        pieces.append(piece)
        progress(len(pieces) * _PIECE / max(len(signal), _PIECE))
    part = np.concatenate(pieces)
    found = evidence(part[i : i + audio.BLOCK] for i in range(0, len(part), audio.BLOCK))
    return found, _as_heard(attacks.find(part, found), signal)


def _as_heard(hits: Attacks, signal: Samples) -> Attacks:
    """The part's attacks at the times at which the mix has them, as separating smears their starts a little."""
    there = attacks.place(signal, hits.seconds)
    moved = np.where(np.abs(there - hits.seconds) < _SMEARED, there, hits.seconds)
    order = np.argsort(moved, kind="stable")
    return Attacks(moved[order], hits.strength[order])


def _percussive(signal: Samples) -> Samples:
    if len(signal) < 2 * WINDOW:
        return np.zeros_like(signal)
    transform = ShortTimeFFT(np.hanning(WINDOW), HOP, LISTENING_RATE)
    spectrum = transform.stft(signal.astype(np.float64))
    size: NDArray[np.float32] = np.abs(spectrum).astype(np.float32)
    tones = median_filter(size, (1, _FRAMES)) ** 2
    strokes = median_filter(size, (_BINS, 1)) ** 2
    mask = strokes / (strokes + tones + 1e-12)
    return np.asarray(transform.istft(spectrum * mask, k1=len(signal)), dtype=np.float32)
