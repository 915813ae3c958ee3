"""Attacks: where notes start. Drums strike in all bands at once and are placed on the waveform itself; others are found
where new partials appear, as one note of a bow or a chord flows into the next without a rise in level."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d, maximum_filter1d, uniform_filter1d

from core.listening.audio import LISTENING_RATE, Samples
from core.listening.spectrum import FRAME_RATE, Evidence, Frames

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


#: Punch from which on a track is heard as a drum. Soft players have up to 2, pianos and guitars 1 to 3.
DRUM = 3.0


def punch(flux: Frames) -> float:
    """How strongly a track's strongest attacks rise over all bands at once: a drum 4 to 6, a bow under 1."""
    return float(np.percentile(flux.sum(axis=1), 99.5)) if len(flux) else 0.0


def strength_curve(flux: Frames) -> Frames:
    """One attack strength a frame from the flux of all ranges, scaled so that strong attacks reach 1."""
    curve = flux.sum(axis=1)
    top = max(SOFTEST, np.percentile(curve[curve > 0], 98)) if (curve > 0).any() else 1.0
    return np.minimum(curve / top, 1.5).astype(np.float32)


#: How much new partials rise, over all ranges, when a soft note begins; the bustle of a held pad reaches a third.
NEW_NOTE = 0.4


def tone_curve(tone: Frames) -> Frames:
    """How strongly new partials appear at each frame, above their usual bustle, so that strong ones reach 1."""
    new = gaussian_filter1d(tone.sum(axis=1), 1.0)
    new = np.maximum(new - uniform_filter1d(new, round(0.6 * FRAME_RATE)), 0)
    top = max(NEW_NOTE, np.percentile(new, 98)) if len(new) else 1.0
    return np.minimum(new / top, 1.5).astype(np.float32)


def pick_frames(curve: Frames, threshold: float, gap: float = 0.05) -> NDArray[np.int64]:
    """Frames that are the peak of ``gap`` seconds around and stand ``threshold`` above the local mean."""
    reach = round(gap * FRAME_RATE)
    peak = (curve == maximum_filter1d(curve, 2 * reach + 1)) & (curve > 0)
    above = curve - uniform_filter1d(curve, round(0.4 * FRAME_RATE)) > threshold
    frames = np.flatnonzero(peak & above)
    return frames[np.concatenate(([True], np.diff(frames) > reach))] if len(frames) else frames


@njit(cache=True, nogil=True)
def _starts(signal: np.ndarray, near: np.ndarray, fraction: float) -> np.ndarray:
    """For each sample index in ``near`` the sample at which the envelope leaves the floor for its peak.

    The envelope is the trailing 1 ms mean of the magnitude, with the slope mixed in (it favours the edge of
    a hit over a ringing low note below it), then held for 13 ms, which bridges the swing of the lowest notes
    without delaying a rise.
    """
    step, smooth, hold = 5, 20, 52  # samples, samples, steps
    back, ahead = 1100, 700  # samples: 55 and 35 ms
    out = np.empty(len(near))
    for k in range(len(near)):
        lo = max(1, near[k] - back - smooth)
        hi = min(len(signal), near[k] + ahead)
        steps = (hi - lo - smooth) // step
        if steps < 20:
            out[k] = max(0, near[k])
            continue
        env = np.empty(steps)
        total = 0.0
        for i in range(smooth):
            total += abs(signal[lo + i]) + 2.0 * abs(signal[lo + i] - signal[lo + i - 1])
        for s in range(steps):
            for i in range(lo + smooth + s * step, lo + smooth + (s + 1) * step):
                j = i - smooth
                total += abs(signal[i]) + 2.0 * abs(signal[i] - signal[i - 1])
                total -= abs(signal[j]) + 2.0 * abs(signal[j] - signal[j - 1])
            env[s] = total
        held = np.empty(steps)
        for s in range(steps):
            top = 0.0
            for i in range(max(0, s - hold), s + 1):
                top = max(top, env[i])
            held[s] = top
        # the attack is where the held envelope gains most over 8 ms
        gain, at = -1.0, min(32, steps - 1)
        for s in range(32, steps):
            g = held[s] - held[s - 32]
            if g > gain * 1.02:
                gain, at = g, s
        peak = held[at]
        floor = peak
        for s in range(max(0, at - 180), at):  # 45 ms before
            floor = min(floor, held[s])
        level = floor + fraction * (peak - floor)
        s = at
        while s > 0 and held[s - 1] > level:
            s -= 1
        out[k] = lo + smooth + s * step
    return out


def place(signal: Samples, seconds: Floats, offset: float = 0.0) -> Floats:
    """Move coarse attack times (good to some 30 ms) to the start of the attack on ``signal``.

    ``signal`` is mono at the listening rate and begins at ``offset`` seconds. The start is where the
    1 ms envelope passes a tenth of the way from floor to peak.
    """
    near = np.round((np.asarray(seconds) - offset) * LISTENING_RATE).astype(np.int64)
    return _starts(signal, near, 0.1) / LISTENING_RATE + offset


def find(signal: Samples, heard: Evidence) -> Attacks:
    """A track's attacks, from its mono signal at the listening rate and the evidence of it: a drum's on the waveform,
    anybody else's where new partials appear."""
    if punch(heard.flux) >= DRUM:
        curve = strength_curve(heard.flux)
        frames = pick_frames(curve, 0.12)
        seconds = place(signal, frames / FRAME_RATE)
    else:
        curve = tone_curve(heard.tone)
        frames = pick_frames(curve, 0.1)
        seconds = peaks(curve, frames) / FRAME_RATE
    if not len(frames):
        return NONE
    order = np.argsort(seconds, kind="stable")
    seconds, strength = seconds[order], np.minimum(curve[frames][order], 1.0).astype(np.float64)
    first = np.concatenate(([True], np.diff(seconds) > 0.01))
    return Attacks(np.maximum(seconds[first], 0.0), strength[first])


def peaks(curve: Frames, frames: NDArray[np.int64]) -> Floats:
    """The tops of the parabolas through the peaks at ``frames`` and their neighbours, in fractions of a frame."""
    around = np.pad(curve.astype(np.float64), 1, mode="edge")
    before, top, after = (around[frames + i] for i in range(3))
    bend = before - 2 * top + after
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(frames + np.where(bend < 0, np.clip(0.5 * (before - after) / bend, -0.5, 0.5), 0.0))
