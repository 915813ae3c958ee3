"""Onset envelopes: how strongly something new starts at each frame, and where that peaks."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d, maximum_filter1d, uniform_filter1d

from core.listening.rates import FRAME_RATE
from core.listening.spectrum import Frames

Floats = NDArray[np.float64]

#: Total flux that a track's strong attacks reach at least: vibrato alone reaches a third of it.
LEAST_FLUX = 0.15
#: Total rise of partials that a soft note's start reaches at least: a held pad alone reaches a third of it.
LEAST_PARTIAL_FLUX = 0.4
#: The percentile of a strong attack.
_STRONG = 98
#: Where an envelope stops, strong attacks being 1.
_MOST = 1.5
#: Seconds of the local mean above which new partials, and peaks, rise.
_PARTIAL_MEAN, _PEAK_MEAN = 0.6, 0.4


def flux_envelope(flux: Frames) -> Frames:
    """The flux of all ranges as one envelope ``(frames,)``, scaled so that strong attacks reach 1, at most 1.5."""
    envelope = flux.sum(axis=1)
    top = max(LEAST_FLUX, np.percentile(envelope[envelope > 0], _STRONG)) if (envelope > 0).any() else 1.0
    return np.asarray(np.minimum(envelope / top, _MOST).astype(np.float32))


def partial_flux_envelope(partial_flux: Frames) -> Frames:
    """The rise of new partials as one envelope ``(frames,)`` above its local mean; strong ones reach 1, at most 1.5."""
    new = gaussian_filter1d(partial_flux.sum(axis=1), 1.0)
    new = np.maximum(new - uniform_filter1d(new, round(_PARTIAL_MEAN * FRAME_RATE)), 0)
    top = max(LEAST_PARTIAL_FLUX, np.percentile(new, _STRONG)) if len(new) else 1.0
    return np.asarray(np.minimum(new / top, _MOST).astype(np.float32))


def pick_frames(envelope: Frames, threshold: float, gap: float = 0.05) -> NDArray[np.int64]:
    """Frames at which the envelope peaks within ``gap`` seconds and exceeds its local mean by ``threshold``."""
    radius = round(gap * FRAME_RATE)
    peak = (envelope == maximum_filter1d(envelope, 2 * radius + 1)) & (envelope > 0)
    above = envelope - uniform_filter1d(envelope, round(_PEAK_MEAN * FRAME_RATE)) > threshold
    frames = np.flatnonzero(peak & above)
    return frames[np.concatenate(([True], np.diff(frames) > radius))] if len(frames) else frames


def interpolated_peaks(envelope: Frames, frames: NDArray[np.int64]) -> Floats:
    """Peaks at ``frames``, refined by the parabola through each and its neighbours, in fractions of a frame."""
    around = np.pad(envelope.astype(np.float64), 1, mode="edge")
    before, top, after = (around[frames + i] for i in range(3))
    bend = before - 2 * top + after
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(frames + np.where(bend < 0, np.clip(0.5 * (before - after) / bend, -0.5, 0.5), 0.0))
