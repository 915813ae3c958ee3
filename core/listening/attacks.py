"""Attacks: where notes start, found coarsely in the flux and then placed on the waveform itself."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d, uniform_filter1d

from core.listening.audio import LISTENING_RATE, Samples
from core.listening.spectrum import FRAME_RATE, Frames

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Attacks:
    """``seconds``: starts of attacks, rising; ``strength``: 0 to 1 against the track's strong attacks."""

    seconds: Floats
    strength: Floats

    def __len__(self) -> int:
        return len(self.seconds)


#: Flux below which nothing is a strong attack, however even the track: what vibrato leaves is a third of it.
SOFTEST = 0.15

NONE = Attacks(np.zeros(0), np.zeros(0))


def strength_curve(flux: Frames) -> Frames:
    """One attack strength a frame from the flux of all ranges, scaled so that strong attacks reach 1."""
    curve = flux.sum(axis=1)
    top = max(SOFTEST, np.percentile(curve[curve > 0], 98)) if (curve > 0).any() else 1.0
    return np.minimum(curve / top, 1.5).astype(np.float32)


def pick_frames(curve: Frames, threshold: float = 0.12, gap: float = 0.05) -> NDArray[np.int64]:
    """Frames that are the peak of ``gap`` seconds around and stand ``threshold`` above the local mean."""
    reach = round(gap * FRAME_RATE)
    peak = (curve == maximum_filter1d(curve, 2 * reach + 1)) & (curve > 0)
    above = curve - uniform_filter1d(curve, round(0.4 * FRAME_RATE)) > threshold
    frames = np.flatnonzero(peak & above)
    return frames[np.concatenate(([True], np.diff(frames) > reach))] if len(frames) else frames


@njit(cache=True, nogil=True)
def _starts(signal: np.ndarray, near: np.ndarray, back: int, ahead: int, fraction: float) -> np.ndarray:
    """For each sample index in ``near`` the sample at which the envelope leaves the floor for its peak."""
    smooth = 20  # 1 ms
    out = np.empty(len(near))
    for k in range(len(near)):
        lo = max(1, near[k] - back)
        hi = min(len(signal), near[k] + ahead)
        n = hi - lo
        if n < 2 * smooth:
            out[k] = near[k]
            continue
        # Envelope: the trailing 1 ms mean of the magnitude, of the signal with its slope mixed in. The
        # slope favours the edge of a hit over a ringing low note below it.
        env = np.empty(n)
        total = 0.0
        for i in range(n):
            total += abs(signal[lo + i]) + 2.0 * abs(signal[lo + i] - signal[lo + i - 1])
            if i >= smooth:
                j = lo + i - smooth
                total -= abs(signal[j]) + 2.0 * abs(signal[j] - signal[j - 1])
            env[i] = total
        # the steepest rise over 3 ms marks the attack; its peak is the next 8 ms' highest value
        rise, at = -1.0, 0
        for i in range(3 * smooth, n):
            r = env[i] - env[i - 3 * smooth]
            if r > rise:
                rise, at = r, i
        peak = env[at]
        for i in range(at, min(n, at + 8 * smooth)):
            peak = max(peak, env[i])
        floor = env[smooth]
        first = max(smooth, at - 12 * smooth)
        floor = env[first]
        for i in range(first, at):
            floor = min(floor, env[i])
        level = floor + fraction * (peak - floor)
        i = at
        while i > first and env[i] > level:
            i -= 1
        out[k] = lo + i + 1
    return out


def place(signal: Samples, seconds: Floats, offset: float = 0.0) -> Floats:
    """Move coarse attack times (good to some 30 ms) to the start of the attack on ``signal``.

    ``signal`` is mono at the listening rate and begins at ``offset`` seconds. The start is where the
    1 ms envelope passes a tenth of the way from floor to peak.
    """
    near = np.round((np.asarray(seconds) - offset) * LISTENING_RATE).astype(np.int64)
    return _starts(signal, near, 900, 800, 0.1) / LISTENING_RATE + offset


def find(signal: Samples, flux: Frames, threshold: float = 0.12) -> Attacks:
    """A track's attacks, from its mono signal at the listening rate and its flux ``(frames, 3)``."""
    curve = strength_curve(flux)
    frames = pick_frames(curve, threshold)
    if not len(frames):
        return NONE
    seconds = place(signal, frames / FRAME_RATE)
    order = np.argsort(seconds, kind="stable")
    seconds, strength = seconds[order], np.minimum(curve[frames][order], 1.0).astype(np.float64)
    first = np.concatenate(([True], np.diff(seconds) > 0.01))
    return Attacks(np.maximum(seconds[first], 0.0), strength[first])
