"""What two takes of one music have in common, frame by frame: harmony and attacks, whatever plays them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d

from core.listening.envelopes import flux_envelope
from core.listening.pitches import COUNT, LOWEST, PITCH_RATE
from core.listening.rates import FRAME_RATE
from core.listening.track import AnalysedTrack

Frames = NDArray[np.float32]

#: Compression of chroma, ``log(1 + x * gain)``, with its strong frames at 1 (Müller and Ewert 2011 use 100 to 1000).
_GAIN = 100.0
#: Seconds in which a pitch class that begins falls to 1/e in the onset features (Ewert, Müller and Grosche 2009).
_DECAY = 0.1
#: Share of the strongest chroma onset that counts as strong beside its neighbourhood; seconds of that.
_LEAST_ONSET, _NEIGHBOURHOOD = 0.1, 1.0
#: Percentile of what sounds loud, against which a take's own levels are measured; under this share of it is silence.
_LOUD, _SILENT = 95, 0.02


def chroma_features(tracks: Sequence[AnalysedTrack], rate: float) -> Frames:
    """``(frames, 12)``: pitch classes of all tracks together, at ``rate`` frames a second, each frame of length 1; all
    alike where it is silent. Folded from semitones that stand out of their frame, which parts low notes better than a
    chroma of short windows."""
    return _of_length_one(_resampled(_folded(_semitones(tracks)), rate, PITCH_RATE))


def _semitones(tracks: Sequence[AnalysedTrack]) -> Frames:
    """``(slow frames, semitones)``: log amplitude above the frame's median, of whichever track is loudest there."""
    frames = max((len(t.evidence.pitches) for t in tracks), default=0)
    loudest = np.zeros((frames, COUNT), dtype=np.float32)
    for track in tracks:
        part = track.evidence.pitches.astype(np.float32)
        np.maximum(loudest[: len(part)], part, out=loudest[: len(part)])
    return np.maximum(loudest - np.median(loudest, axis=1, keepdims=True), 0) if frames else loudest


def _folded(semitones: Frames) -> Frames:
    """Semitones (the lowest first) added up by pitch class, C first."""
    out = np.zeros((len(semitones), 12), dtype=np.float32)
    for k in range(semitones.shape[1]):
        out[:, (LOWEST + k) % 12] += semitones[:, k]
    return out


def sounding(tracks: Sequence[AnalysedTrack]) -> tuple[float, float]:
    """Seconds between which a take sounds; both 0 where it does not."""
    loud = _summed([t.evidence.chroma for t in tracks]).sum(axis=1)
    sounds = np.flatnonzero(loud > _SILENT * np.percentile(loud, _LOUD)) if len(loud) else np.zeros(0, int)
    return (float(sounds[0]) / FRAME_RATE, float(sounds[-1]) / FRAME_RATE) if len(sounds) else (0.0, 0.0)


def onset_features(tracks: Sequence[AnalysedTrack], rate: float) -> Frames:
    """``(frames, 13)``: where pitch classes begin, and where anything is struck, fading out within a tenth of a second
    (decaying chroma onsets, Ewert, Müller and Grosche, "High resolution audio synchronization using chroma onset
    features", 2009)."""
    chroma = _summed([t.evidence.chroma for t in tracks])
    loud = float(np.percentile(chroma.sum(axis=1), _LOUD)) if len(chroma) else 0.0
    compressed = np.log1p(_GAIN * chroma / max(loud, 1e-12))
    rise = np.maximum(np.diff(compressed, axis=0, prepend=compressed[:1]), 0)
    struck = _summed([flux_envelope(t.evidence.flux)[:, None] for t in tracks])
    both = np.concatenate([rise / np.sqrt(12), struck / max(1, len(tracks))], axis=1)
    around = gaussian_filter1d(both.max(axis=1), _NEIGHBOURHOOD * FRAME_RATE, mode="nearest")
    both = both / np.maximum(around, _LEAST_ONSET * max(float(both.max(initial=0.0)), 1e-9))[:, None]
    fall = np.float32(np.exp(-1 / (_DECAY * FRAME_RATE)))
    for k in range(1, len(both)):
        np.maximum(both[k], fall * both[k - 1], out=both[k])
    return _resampled(np.minimum(both, 2.0), rate, FRAME_RATE)


def _summed(parts: Sequence[NDArray[np.float32]]) -> Frames:
    """Rows of all tracks added up, as long as the longest."""
    out = np.zeros((max(map(len, parts), default=0), parts[0].shape[1] if parts else 0), dtype=np.float32)
    for part in parts:
        out[: len(part)] += part
    return out


def _resampled(x: NDArray[np.floating], rate: float, own: float) -> Frames:
    """Rows of ``own`` a second at ``rate`` a second: each the mean of its time, or, where there are to be more, between
    its neighbours."""
    if rate > own:
        at = np.arange(0, len(x) / own, 1 / rate) * own
        return np.stack([np.interp(at, np.arange(len(x)), column) for column in x.T], axis=1).astype(np.float32)
    edges = np.round(np.arange(0, len(x) / own + 1 / rate, 1 / rate) * own).astype(int)
    edges = edges[edges < len(x)]
    if not len(edges):
        return np.zeros((0, x.shape[1]), dtype=np.float32)
    counts = np.diff(np.append(edges, len(x)))
    return np.asarray(np.add.reduceat(x, edges, axis=0) / counts[:, None], dtype=np.float32)


def _of_length_one(x: Frames) -> Frames:
    length = np.linalg.norm(x, axis=1, keepdims=True)
    flat = np.full(x.shape[1], 1 / np.sqrt(x.shape[1]), dtype=np.float32)
    return np.asarray(np.where(length > 1e-6, x / np.maximum(length, 1e-6), flat), dtype=np.float32)
