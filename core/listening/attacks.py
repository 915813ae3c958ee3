"""Attacks: where notes start. Drums strike in all bands at once and are placed on the waveform itself; others are found
where new partials appear, as one note of a bow or a chord flows into the next without a rise in level."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from core.audio import Samples
from core.listening.envelopes import flux_envelope, interpolated_peaks, partial_flux_envelope, pick_frames
from core.listening.rates import FRAME_RATE, LISTENING_RATE
from core.listening.spectrum import Evidence

Floats = NDArray[np.float64]


#: A later rise of the envelope is taken for the attack if it is larger by this factor.
_LARGER = 1.02
#: The share of the way from floor to peak at which an attack starts.
_START = 0.1
#: How far above its local mean an envelope of struck sounds, or of new partials, must rise.
_STRUCK_RISE, _PARTIAL_RISE = 0.11, 0.1
#: Seconds between two attacks at least.
_APART = 0.01


@dataclass(frozen=True)
class Attacks:
    """``seconds``: starts of attacks, rising; ``strength``: 0 to 1 against the track's strong attacks; ``sharpness``: 0
    to 1, how exactly the start can be told: 0 where a note swells or flows out of another, 1 for a stroke."""

    seconds: Floats
    strength: Floats
    sharpness: Floats

    def __len__(self) -> int:
        return len(self.seconds)


NONE = Attacks(np.zeros(0), np.zeros(0), np.zeros(0))
#: Samples a step of the envelope, samples that it averages, and steps for which it is held: 0.25, 1 and 13 ms. Holding
#: bridges the swing of the lowest notes without delaying a rise.
_STEP, _SMOOTH, _HOLD = 5, 20, 52
#: What is looked at around an attack: 55 ms before to 35 ms after, in samples.
_BEFORE, _AFTER = 1100, 700
#: The rise is measured over 8 ms, the floor found in the 20 ms before it, in steps.
_RISE_STEPS, _FLOOR_STEPS = 32, 80
#: The whole sound says where an attack starts only where it rises so many times as clearly as the highs do.
_WHOLE_BAND_LEAD = 2.5


@njit(cache=True, nogil=True)
def _attack_starts(signal: NDArray[Any], near: NDArray[Any], fraction: float) -> tuple[NDArray[Any], NDArray[Any]]:
    """For each sample index in ``near`` the sample at which the envelope leaves the floor for its peak, and how many
    times as loud it is then.

    Looked for in the whole sound and in its highs (third differences, which rise by 18 dB an octave), where the stroke
    of a drum stands out of basses and guitars; the highs say it unless the whole sound rises far more clearly.
    """
    out, contrast = np.empty(len(near)), np.empty(len(near))
    for k in range(len(near)):
        lo = max(3, near[k] - _BEFORE - _SMOOTH)
        hi = min(len(signal), near[k] + _AFTER)
        steps = (hi - lo - _SMOOTH) // _STEP
        if steps < 2 * _RISE_STEPS:
            out[k], contrast[k] = max(0, near[k]), 1.0
            continue
        size = np.empty(hi - lo)
        for i in range(hi - lo):
            j = lo + i
            size[i] = abs(signal[j] - 3 * signal[j - 1] + 3 * signal[j - 2] - signal[j - 3])
        high, is_clear = _largest_rise(size, steps, fraction)
        for i in range(hi - lo):
            # the slope favours the edge of a hit over a ringing low note below it
            size[i] = abs(signal[lo + i]) + 2.0 * abs(signal[lo + i] - signal[lo + i - 1])
        whole, contrast_whole = _largest_rise(size, steps, fraction)
        if contrast_whole > _WHOLE_BAND_LEAD * is_clear:
            high, is_clear = whole, contrast_whole
        out[k], contrast[k] = lo + _SMOOTH + high * _STEP, is_clear
    return out, contrast


# no sample is NaN, and knowing that the compiler compares several at a time
@njit(cache=True, nogil=True, fastmath={"nnan", "nsz"})
def _largest_rise(size: NDArray[Any], steps: int, fraction: float) -> tuple[int, float]:
    """The step at which the held envelope starts on its largest rise, and how many times higher it gets."""
    held = np.empty(steps)
    total = 0.0
    for i in range(_SMOOTH):
        total += size[i]
    for s in range(steps):
        for i in range(_SMOOTH + s * _STEP, _SMOOTH + (s + 1) * _STEP):
            total += size[i] - size[i - _SMOOTH]
        held[s] = total
    _hold(held)
    gain, at = -1.0, min(_RISE_STEPS, steps - 1)
    for s in range(_RISE_STEPS, steps):
        g = held[s] - held[s - _RISE_STEPS]
        if g > gain * _LARGER:
            gain, at = g, s
    floor = held[at]
    for s in range(max(0, at - _FLOOR_STEPS), at):
        floor = min(floor, held[s])
    before = held[max(0, at - _RISE_STEPS)]
    level = floor + fraction * (held[at] - floor)
    s = at
    while s > 0 and held[s - 1] > level:
        s -= 1
    return s, held[at] / (before + 1e-9)


@njit(cache=True, nogil=True, fastmath={"nnan", "nsz"})
def _hold(levels: NDArray[Any]) -> None:
    """Put in place of each level the largest of it and the :data:`_HOLD` before it.

    By van Herk and Gil-Werman: of blocks as long as what is looked at, maxima from the left and from the right; each
    window is the right part of one block and the left part of the next.
    """
    width, count = _HOLD + 1, len(levels)
    from_right = levels.copy()
    for s in range(count - 2, -1, -1):
        if (s + 1) % width:
            from_right[s] = max(from_right[s], from_right[s + 1])
    for s in range(1, count):
        if s % width:
            levels[s] = max(levels[s], levels[s - 1])
    for s in range(_HOLD, count):
        levels[s] = max(levels[s], from_right[s - _HOLD])


def starts(signal: Samples, seconds: Floats) -> tuple[Floats, Floats]:
    """Where attacks start on ``signal``, in seconds, and how many times as loud the sound gets there.

    ``signal`` is mono at the listening rate; ``seconds``: coarse times, good to some 30 ms. The start is where the 1 ms
    envelope passes a tenth of the way from floor to peak. An attack that the recording is cut on rises from silence.
    """
    lead = np.zeros(2 * _BEFORE, dtype=signal.dtype)
    near = np.round(np.asarray(seconds) * LISTENING_RATE).astype(np.int64) + len(lead)
    at, contrast = _attack_starts(np.concatenate([lead, signal]), near, _START)
    return (at - len(lead)) / LISTENING_RATE, contrast


#: How many times as loud it has to get for an attack to be placed on the waveform.
_LEAST_CONTRAST = 2.0
#: How far from where bands rise the waveform's own rise may lie, in seconds; farther off it is another sound's.
_FARTHEST = 0.025
#: Frames within which two marks are the same attack.
_SAME_ATTACK = 5


def find_attacks(signal: Samples, evidence: Evidence) -> Attacks:
    """A track's attacks, from its mono signal at the listening rate and the evidence of it.

    Whatever rises clearly is placed on the waveform itself; elsewhere notes start where new partials appear.
    """
    flux, partials = flux_envelope(evidence.flux), partial_flux_envelope(evidence.partial_flux)
    count = min(len(flux), len(partials))
    envelope = np.maximum(flux[:count], partials[:count])
    percussive, tonal = pick_frames(envelope, _STRUCK_RISE), pick_frames(partials, _PARTIAL_RISE)
    seconds, contrast = starts(signal, percussive / FRAME_RATE)
    is_clear = (contrast >= _LEAST_CONTRAST) & (np.abs(seconds - percussive / FRAME_RATE) < _FARTHEST)
    percussive, seconds, contrast = percussive[is_clear], seconds[is_clear], contrast[is_clear]
    # a note that was placed on the waveform is not counted twice
    is_alone = (
        np.abs(tonal[:, None] - percussive[None, :]).min(axis=1, initial=count) > _SAME_ATTACK
        if len(tonal)
        else tonal > 0
    )
    tonal = tonal[is_alone]
    frames = np.concatenate([percussive, tonal])
    seconds = np.concatenate([seconds, interpolated_peaks(partials, tonal) / FRAME_RATE])
    sharpness = np.clip(
        np.log2(np.concatenate([contrast, np.full(len(tonal), _LEAST_CONTRAST)]) / _LEAST_CONTRAST) / 2, 0, 1
    )
    order = np.argsort(seconds, kind="stable")
    order = order[np.diff(seconds[order], prepend=-1.0) > _APART]
    strength = np.minimum(envelope[frames[order]], 1.0).astype(np.float64)
    return Attacks(np.maximum(seconds[order], 0.0), strength, sharpness[order])


def nearest_attack(tracks: Iterable[Attacks], seconds: float, within: float) -> float | None:
    """The time of the attack nearest to ``seconds``, of any track; None where none lies ``within`` so many seconds."""
    best, distance = None, within
    for attacks in tracks:
        i = int(np.searchsorted(attacks.seconds, seconds))
        for t in attacks.seconds[max(0, i - 1) : i + 1].tolist():
            if abs(t - seconds) <= distance:
                best, distance = t, abs(t - seconds)
    return best
