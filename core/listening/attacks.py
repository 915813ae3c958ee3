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
    """``seconds``: starts of attacks, rising; ``strength``: 0 to 1 against the track's strong attacks; ``sharpness``: 0
    to 1, how exactly the start can be told: 0 where a note swells or flows out of another, 1 for a stroke."""

    seconds: Floats
    strength: Floats
    sharpness: Floats

    def __len__(self) -> int:
        return len(self.seconds)


#: Flux below which nothing is a strong attack, however even the track: what vibrato leaves is a third of it.
SOFTEST = 0.15

NONE = Attacks(np.zeros(0), np.zeros(0), np.zeros(0))


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


#: Samples a step of the envelope, samples that it averages, and steps for which it is held: 0.25, 1 and 13 ms. Holding
#: bridges the swing of the lowest notes without delaying a rise.
_STEP, _SMOOTH, _HOLD = 5, 20, 52
#: What is looked at around an attack: 55 ms before to 35 ms after, in samples.
_BACK, _AHEAD = 1100, 700
#: The rise is measured over 8 ms, the floor found in the 20 ms before it, in steps.
_RISE, _FLOOR = 32, 80
#: The whole sound says where an attack starts only where it rises so many times as clearly as the highs do.
_DULL = 2.5


@njit(cache=True, nogil=True)
def _starts(signal: np.ndarray, near: np.ndarray, fraction: float) -> tuple[np.ndarray, np.ndarray]:
    """For each sample index in ``near`` the sample at which the envelope leaves the floor for its peak, and how many
    times as loud it is then.

    Looked for in the whole sound and in its highs (third differences, which rise by 18 dB an octave), where the stroke
    of a drum stands out of basses and guitars; the highs say it unless the whole sound rises far more clearly.
    """
    out, contrast = np.empty(len(near)), np.empty(len(near))
    for k in range(len(near)):
        lo = max(3, near[k] - _BACK - _SMOOTH)
        hi = min(len(signal), near[k] + _AHEAD)
        steps = (hi - lo - _SMOOTH) // _STEP
        if steps < 2 * _RISE:
            out[k], contrast[k] = max(0, near[k]), 1.0
            continue
        size = np.empty(hi - lo)
        for i in range(hi - lo):
            j = lo + i
            size[i] = abs(signal[j] - 3 * signal[j - 1] + 3 * signal[j - 2] - signal[j - 3])
        high, clear = _rise(size, steps, fraction)
        for i in range(hi - lo):
            # the slope favours the edge of a hit over a ringing low note below it
            size[i] = abs(signal[lo + i]) + 2.0 * abs(signal[lo + i] - signal[lo + i - 1])
        whole, clear_whole = _rise(size, steps, fraction)
        if clear_whole > _DULL * clear:
            high, clear = whole, clear_whole
        out[k], contrast[k] = lo + _SMOOTH + high * _STEP, clear
    return out, contrast


@njit(cache=True, nogil=True)
def _rise(size: np.ndarray, steps: int, fraction: float) -> tuple[int, float]:
    """The step at which the held envelope starts on its largest rise, and how many times higher it gets."""
    held = np.empty(steps)
    total = 0.0
    for i in range(_SMOOTH):
        total += size[i]
    for s in range(steps):
        for i in range(_SMOOTH + s * _STEP, _SMOOTH + (s + 1) * _STEP):
            total += size[i] - size[i - _SMOOTH]
        held[s] = total
    for s in range(steps - 1, 0, -1):
        for i in range(max(0, s - _HOLD), s):
            if held[i] > held[s]:
                held[s] = held[i]
    gain, at = -1.0, min(_RISE, steps - 1)
    for s in range(_RISE, steps):
        g = held[s] - held[s - _RISE]
        if g > gain * 1.02:
            gain, at = g, s
    floor = held[at]
    for s in range(max(0, at - _FLOOR), at):
        floor = min(floor, held[s])
    before = held[max(0, at - _RISE)]
    level = floor + fraction * (held[at] - floor)
    s = at
    while s > 0 and held[s - 1] > level:
        s -= 1
    return s, held[at] / (before + 1e-9)


def place(signal: Samples, seconds: Floats, offset: float = 0.0) -> Floats:
    """Move coarse attack times (good to some 30 ms) to the start of the attack on ``signal``.

    ``signal`` is mono at the listening rate and begins at ``offset`` seconds. The start is where the
    1 ms envelope passes a tenth of the way from floor to peak.
    """
    return starts(signal, seconds, offset)[0]


def starts(signal: Samples, seconds: Floats, offset: float = 0.0) -> tuple[Floats, Floats]:
    """As :func:`place`, with how many times as loud the sound gets at each start."""
    near = np.round((np.asarray(seconds) - offset) * LISTENING_RATE).astype(np.int64)
    at, contrast = _starts(signal, near, 0.1)
    return at / LISTENING_RATE + offset, contrast


#: How many times as loud it has to get for an attack to be placed on the waveform.
_CLEAR = 2.0
#: How far from where bands rise the waveform's own rise may lie, in seconds; farther off it is another sound's.
_NEAR = 0.025
#: Frames within which two marks are the same attack.
_GAP = 5


def find(signal: Samples, heard: Evidence) -> Attacks:
    """A track's attacks, from its mono signal at the listening rate and the evidence of it.

    Whatever rises clearly is placed on the waveform itself; elsewhere notes start where new partials appear.
    """
    rise, new = strength_curve(heard.flux), tone_curve(heard.tone)
    count = min(len(rise), len(new))
    curve = np.maximum(rise[:count], new[:count])
    struck, soft = pick_frames(curve, 0.11), pick_frames(new, 0.1)
    seconds, contrast = starts(signal, struck / FRAME_RATE)
    clear = (contrast >= _CLEAR) & (np.abs(seconds - struck / FRAME_RATE) < _NEAR)
    struck, seconds, contrast = struck[clear], seconds[clear], contrast[clear]
    # one note is one attack
    alone = np.abs(soft[:, None] - struck[None, :]).min(axis=1, initial=count) > _GAP if len(soft) else soft > 0
    soft = soft[alone]
    frames = np.concatenate([struck, soft])
    seconds = np.concatenate([seconds, peaks(new, soft) / FRAME_RATE])
    sharpness = np.clip(np.log2(np.concatenate([contrast, np.full(len(soft), _CLEAR)]) / _CLEAR) / 2, 0, 1)
    order = np.argsort(seconds, kind="stable")
    order = order[np.diff(seconds[order], prepend=-1.0) > 0.01]
    strength = np.minimum(curve[frames[order]], 1.0).astype(np.float64)
    return Attacks(np.maximum(seconds[order], 0.0), strength, sharpness[order])


def peaks(curve: Frames, frames: NDArray[np.int64]) -> Floats:
    """The tops of the parabolas through the peaks at ``frames`` and their neighbours, in fractions of a frame."""
    around = np.pad(curve.astype(np.float64), 1, mode="edge")
    before, top, after = (around[frames + i] for i in range(3))
    bend = before - 2 * top + after
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(frames + np.where(bend < 0, np.clip(0.5 * (before - after) / bend, -0.5, 0.5), 0.0))
