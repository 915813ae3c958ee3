"""Placement: from frames of 10 ms to the start of the attack that each beat sits on.

Where the best guides have an attack near a beat, the beat goes to the start of the best of them. Where there is none,
it follows the supported beats around it by least squares.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy import sparse
from scipy.sparse.linalg import spsolve

from core.listening.guides import GuideRank
from core.listening.rates import FRAME_RATE
from core.listening.track import AnalysedTrack
from core.tracking.activation_offset import activation_peaks
from core.tracking.context import AnalysisContext

Floats = NDArray[np.float64]

#: How far a beat may move from its decoded frame to an attack, in seconds.
SEARCH_WINDOW = 0.045
#: Standard deviation of a sure beat around its peak in the activation, in seconds.
ACTIVATION_SPREAD = 0.008
#: Standard deviation of a beat on the sharpest attack, and what the softest adds to it, in seconds.
_SHARP_SPREAD, _SOFT_SPREAD = 0.0003, 0.022
#: Least weighted strength of an attack that supports a beat; least height of an envelope peak where there is none.
_LEAST_SUPPORT, _LEAST_PEAK = 0.12, 0.25
#: Standard deviation of a beat on an envelope peak of height 1, and from when on a peak may support a beat; seconds.
_PEAK_SPREAD, _VAGUE = 0.02, 0.015
#: Activations from which on a beat's placement is pulled by the activation, and where to look is set by it.
_PULLS, _AIMS = 0.1, 0.2
#: Clearness between which attacks are those of strums: neither percussive nor bowed.
_STRUMS = (0.35, 0.55)
#: How attacks count less with their distance from the aim, and within what they are the same stroke, in seconds.
_AIM_SPREAD, _STROKE_SPREAD = 0.025, 0.006
#: How far tempo changes from beat to beat (as a share), and from when on the decoded chain itself changes tempo.
_TEMPO_SPREAD, _TEMPO_STEP = 0.025, 0.08
#: Least time between two beats, in seconds.
_CLOSEST = 0.02
#: Fewest attacks that tell how late a track plays.
_FEWEST_NEAR = 6
#: Most support that a peak of the onset envelope gives a beat without an attack, and how much of its height counts.
_PEAK_SUPPORT, _PEAK_SHARE = 0.7, 0.6
#: Weighted attacks of full strength that give a beat its full support.
_FULL_SUPPORT = 1.5
#: Keeps the spread of a soft attack without support finite.
_SOFTEST = 0.3
#: Up to this spread (seconds) an attack is where its beat is; from twice as much on it is soft.
_EXACT = 0.002
#: Frames either way in which a peak of the onset envelope is looked for.
_PEAK_FRAMES = 4
#: Seconds: the least spread of an observed beat, and the spread of one that was not observed.
_LEAST_SPREAD, _UNSEEN_SPREAD = 1e-4, 0.15


#: Attacks by which a track's lateness is told: from this strength on, and so many at least.
_CLEAR, _FEWEST_ATTACKS = 0.25, 4


def lateness_of(beats: Floats, tracks: Sequence[AnalysedTrack], ranks: Sequence[GuideRank]) -> Floats:
    """How late each track is against the clearest one, in seconds, ``(tracks,)``, measured at the beats it plays.

    A room pair hears all players some milliseconds late; a bass may lean back all through the take. The clearest track
    is never late: the beat sits on its attack."""
    lateness = np.full(len(tracks), np.nan)
    share = np.zeros(len(tracks))
    for i, p in enumerate(tracks):
        times = p.attacks.seconds[p.attacks.strength > _CLEAR]
        if len(times) < _FEWEST_ATTACKS:
            continue
        j = np.clip(np.searchsorted(times, beats), 1, len(times) - 1)
        before, after = times[j - 1] - beats, times[j] - beats
        gap = np.where(np.abs(before) < np.abs(after), before, after)
        near = gap[np.abs(gap) < SEARCH_WINDOW]
        share[i] = len(near) / len(beats)
        if len(near) >= _FEWEST_NEAR:
            lateness[i] = float(np.median(near))
    clearness = np.array([r.clearness for r in ranks]) ** 2 * np.minimum(1, 3 * share) * np.isfinite(lateness)
    reference = lateness[int(np.argmax(clearness))] if clearness.any() else 0.0
    return np.where(np.isfinite(lateness), lateness, reference) - reference


@dataclass(frozen=True)
class PlacedBeats:
    """Beats in seconds, with the weighted strength of the attacks that agree (``support``, 0 to 1)."""

    seconds: Floats
    support: Floats


def place_on_attacks(context: AnalysisContext, beats: Floats) -> PlacedBeats:
    """Put each beat on the start of the guide's attack where there is a believable one.

    Each beat gets an observation and a measure of trust: attacks of clear tracks to the sample; soft ones within some
    20 ms, combined with the peak of the beat activation; or the peak of the onset envelope; or none. The result is the
    chain that agrees best with the observations and changes tempo least. Soft attacks that come before or after the
    beats of the activation all through the take are met half-way (:mod:`core.tracking.activation_offset`).

    ``beats``: decoded times in seconds, rising, ``(beats,)``.
    """
    tracks, ranks, onset_envelope = context.tracks, context.ranks, context.onset_envelope
    lateness = lateness_of(beats, tracks, ranks)
    expected, sure = activation_peaks(context.beat_activation[:, 0], beats)
    offset = context.offset
    expected = expected + offset.seconds
    observed, spread, support = _attacks_near(beats, expected, sure, tracks, ranks, lateness)
    observed = observed - offset.early * np.clip(spread / _EXACT - 1, 0, 1)
    expected = expected - offset.early
    for k, t in enumerate(beats):
        if spread[k] > _VAGUE:
            peak, height = _peak(onset_envelope, t)
            if height > _LEAST_PEAK:
                support[k] = max(support[k], min(_PEAK_SUPPORT, _PEAK_SHARE * height))
                if not np.isfinite(spread[k]):
                    observed[k], spread[k] = peak - offset.early, _PEAK_SPREAD / height
    with np.errstate(divide="ignore"):
        trust, activation_trust = 1 / spread**2, np.where(sure > _PULLS, (sure / ACTIVATION_SPREAD) ** 2, 0.0)
    both = trust + activation_trust
    observed = np.where(both > 0, (trust * observed + activation_trust * expected) / np.maximum(both, 1e-9), observed)
    spread = np.where(both > 0, 1 / np.sqrt(np.maximum(both, 1e-9)), np.inf)
    return PlacedBeats(_smooth(beats, observed, spread), support)


def _attacks_near(
    beats: Floats,
    expected: Floats,
    sure: Floats,
    tracks: Sequence[AnalysedTrack],
    ranks: Sequence[GuideRank],
    lateness: Floats,
) -> tuple[Floats, Floats, Floats]:
    """For each beat the attack on which the best guides agree, its standard deviation (seconds, infinite without one)
    and the weighted strength behind it."""
    top = max((r.weight for r in ranks), default=0) or 1.0
    at = np.concatenate([p.attacks.seconds - d for p, d in zip(tracks, lateness, strict=True)])
    strength = np.concatenate([r.weight / top * p.attacks.strength for p, r in zip(tracks, ranks, strict=True)])
    clearness = np.concatenate([np.full(len(p.attacks), r.clearness) for p, r in zip(tracks, ranks, strict=True)])
    sharpness = np.concatenate([p.attacks.sharpness for p in tracks])
    order = np.argsort(at, kind="stable")
    at, strength, clearness, sharpness = at[order], strength[order], clearness[order], sharpness[order]
    aim = np.where(sure < _AIMS, beats, (beats + expected) / 2)
    first, last = np.searchsorted(at, [beats - SEARCH_WINDOW, beats + SEARCH_WINDOW])
    best, agreed = _densest(at, strength, aim, first, last)
    found = best >= 0
    support = np.minimum(1.0, agreed / _FULL_SUPPORT)
    # strums lie half-way between sharp and soft
    precision = (
        np.maximum(np.clip((clearness[best] - _STRUMS[0]) / (_STRUMS[1] - _STRUMS[0]), 0, 1), sharpness[best])
        if len(at)
        else np.zeros(len(beats))
    )
    is_placed = found & (agreed > _LEAST_SUPPORT)
    observed = np.where(is_placed, at[best], beats) if len(at) else beats.copy()
    spread = np.where(is_placed, _SHARP_SPREAD + _SOFT_SPREAD * (1 - precision) / (_SOFTEST + support), np.inf)
    return observed, spread, support


@njit(cache=True, nogil=True)
def _densest(
    at: NDArray[Any], strength: NDArray[Any], aim: NDArray[Any], first: NDArray[Any], last: NDArray[Any]
) -> tuple[NDArray[Any], NDArray[Any]]:
    """For each aim the attack among ``first`` to ``last`` with the most strength within some 6 ms of it (-1: none), and
    that strength; attacks count less the farther they lie from the aim."""
    best, agreed = np.full(len(aim), -1), np.zeros(len(aim))
    for k in range(len(aim)):
        count = last[k] - first[k]
        near = np.empty(count)
        for j in range(count):
            near[j] = strength[first[k] + j] * np.exp(-0.5 * ((at[first[k] + j] - aim[k]) / _AIM_SPREAD) ** 2)
        top = -1.0
        for j in range(count):
            total = 0.0
            for i in range(count):
                total += near[i] * np.exp(-0.5 * ((at[first[k] + j] - at[first[k] + i]) / _STROKE_SPREAD) ** 2)
            if total * np.sqrt(near[j]) > top:
                top, best[k], agreed[k] = total * np.sqrt(near[j]), first[k] + j, total
    return best, agreed


def _peak(onset_envelope: Floats, t: float) -> tuple[float, float]:
    """The highest point of the onset envelope around ``t`` (seconds), to a fraction of a frame, and its height."""
    centre = round(t * FRAME_RATE)
    lo, hi = max(1, centre - _PEAK_FRAMES), min(len(onset_envelope) - 1, centre + _PEAK_FRAMES + 1)
    if hi <= lo:
        return t, 0.0
    i = lo + int(np.argmax(onset_envelope[lo:hi]))
    a, b, c = onset_envelope[i - 1], onset_envelope[i], onset_envelope[i + 1]
    bend = a - 2 * b + c
    shift = float(np.clip(0.5 * (a - c) / bend, -0.5, 0.5)) if bend < 0 else 0.0
    return (i + shift) / FRAME_RATE, float(b)


def _smooth(beats: Floats, observed: Floats, spread: Floats) -> Floats:
    """Least squares: near the observations by their standard deviation, with tempo changing by some 2.5 % a beat."""
    n = len(beats)
    trust = np.where(np.isfinite(spread), 1 / np.maximum(spread, _LEAST_SPREAD) ** 2, 1 / _UNSEEN_SPREAD**2)
    anchor = np.where(np.isfinite(spread), observed, beats)
    even = 1 / (_TEMPO_SPREAD * float(np.median(np.diff(beats)))) ** 2
    # the changes of interval are small except where the decoded chain itself changes (a hold, an a tempo)
    jumps = np.abs(np.diff(beats, 2))
    steps = _TEMPO_STEP * np.maximum(np.diff(beats)[1:], 1e-3)
    weights = even / (1 + (jumps / steps) ** 2)
    second = sparse.diags([np.ones(n - 2), -2 * np.ones(n - 2), np.ones(n - 2)], [0, 1, 2], shape=(n - 2, n))
    goal = np.clip(np.diff(beats, 2), -1, 1) * (jumps > steps)
    system = sparse.diags(trust) + second.T @ sparse.diags(weights) @ second
    out = np.asarray(spsolve(system.tocsc(), trust * anchor + second.T @ (weights * goal)))
    for i in range(1, n):  # strictly rising, whatever the attacks are
        if out[i] <= out[i - 1] + _CLOSEST:
            out[i] = out[i - 1] + max(_CLOSEST, beats[i] - beats[i - 1])
    return out
