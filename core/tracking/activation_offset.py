"""How much later than the beat activation says a take's attacks come, and where between the two its beats lie.

Measured over the whole take, so that a stretch whose beats are detected again is placed as the rest of the take is.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.signal import find_peaks

from core.listening.guides import GuideRank
from core.listening.rates import FRAME_RATE
from core.listening.track import AnalysedTrack
from core.tracking.parameters import FEWEST_BEATS

Floats = NDArray[np.float64]

#: Peaks of the activation from this height on are compared with the attacks, so many frames apart at least.
_LEAST_PEAK, _APART = 0.3, 10
#: Frames either way in which the activation's peak is looked for, and those of its centre of mass.
_PEAK_FRAMES, _MASS_FRAMES = 6, 4
#: Shifts of the activation against the attacks that are tried: from, to and step in seconds.
_SHIFTS = np.arange(-0.03, 0.0401, 0.0025)
#: How far from a peak of the activation its attack may lie, in seconds.
_NEAR = 0.045
#: Up to the first clearness beats lie half-way between attacks and activation, from the second on at the attacks.
_HALF_WAY, _AT_ATTACKS = 0.55, 0.7


@dataclass(frozen=True)
class ActivationOffset:
    """``seconds``: by how much attacks come later than the activation says. ``early``: by how much beats come before
    where attacks and shifted activation have them, in seconds.

    A percussive attack is where its beat is. Voices and bows speak before or after the beat they mean, and a strum's
    beat lies amid its strings; the activation has learned that, but not of this instrument. So there beats lie
    half-way between what the two say.
    """

    seconds: float
    early: float


def activation_offset(
    tracks: Sequence[AnalysedTrack], ranks: Sequence[GuideRank], onset_envelope: Floats, beat_activation: Floats
) -> ActivationOffset:
    """The offset of a take: the shift of the activation's peaks at which the onset envelope is highest.

    ``onset_envelope`` and ``beat_activation`` (the probability of a beat): ``(frames,)``.
    """
    peaks = find_peaks(beat_activation, height=_LEAST_PEAK, distance=_APART)[0]
    if len(peaks) < FEWEST_BEATS:
        return ActivationOffset(0.0, 0.0)
    expected, _ = activation_peaks(beat_activation, peaks / FRAME_RATE)
    at = (expected[:, None] + _SHIFTS) * FRAME_RATE
    height = np.interp(at, np.arange(len(onset_envelope)), onset_envelope).mean(axis=0)
    seconds = float(_SHIFTS[np.argmax(height)])
    share = np.interp(_usual_clearness(expected, tracks, ranks), [_HALF_WAY, _AT_ATTACKS], [0.5, 0.0])
    return ActivationOffset(seconds, float(share) * seconds)


def _usual_clearness(expected: Floats, tracks: Sequence[AnalysedTrack], ranks: Sequence[GuideRank]) -> float:
    """The median clearness of the tracks that have the strongest attack near each of some times (seconds)."""
    at = np.concatenate([t.attacks.seconds for t in tracks])
    strength = np.concatenate([r.weight * t.attacks.strength for t, r in zip(tracks, ranks, strict=True)])
    clearness = np.concatenate([np.full(len(t.attacks), r.clearness) for t, r in zip(tracks, ranks, strict=True)])
    order = np.argsort(at, kind="stable")
    at, strength, clearness = at[order], strength[order], clearness[order]
    bounds = np.searchsorted(at, [expected - _NEAR, expected + _NEAR]).T
    found = [clearness[a + np.argmax(strength[a:b])] for a, b in bounds if b > a]
    return float(np.median(found)) if found else 1.0


def activation_peaks(beat_activation: Floats, beats: Floats) -> tuple[Floats, Floats]:
    """The peak of an activation ``(frames,)`` near each beat: its centre of mass in seconds, and its height, 0 to 1."""
    middle = np.round(beats * FRAME_RATE).astype(int)
    around = np.clip(middle[:, None] + np.arange(-_PEAK_FRAMES, _PEAK_FRAMES + 1), 0, len(beat_activation) - 1)
    peak = around[np.arange(len(beats)), beat_activation[around].argmax(axis=1)]
    around = np.clip(peak[:, None] + np.arange(-_MASS_FRAMES, _MASS_FRAMES + 1), 0, len(beat_activation) - 1)
    weights = beat_activation[around]
    return (weights * around).sum(axis=1) / np.maximum(weights.sum(axis=1), 1e-9) / FRAME_RATE, beat_activation[peak]
