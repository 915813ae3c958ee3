"""Evidence for downbeats: how much each beat sounds like the first of a bar.

What marks it (common practice, and the features of Böck, Krebs and Widmer 2016): low drums and basses strike, the
harmony changes, patterns repeat after a bar; the backbeat answers between.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter1d

from core.listening.track import AnalysedTrack
from core.tracking.beat_patterns import TakeBands, read_pattern
from core.tracking.parameters import EVIDENCE_WEIGHTS, FEWEST_BEATS

if TYPE_CHECKING:
    from core.tracking.context import AnalysisContext

Curve = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Chosen: how much each cue counts (in spreads): low level, low attack, all together, change of harmony.
_LOW_LEVEL, _LOW_ATTACK, _TOGETHER, _HARMONY = 1.0, 0.4, 0.8, 0.9
#: Chosen: the share of a cue that counts even where it does not repeat.
_ALWAYS = 0.3
#: A track counts for "together" as far as it agrees with the low drum; one that neither agrees nor answers counts so.
_NEUTRAL = 0.15
#: How far a track counts for chords, least; and the spread of chroma changes from which on it changes chords.
_LEAST_CHORDAL, _CHORD_CHANGES = 0.1, 0.005
#: Beat activation under which a downbeat says little, and the bounds of its share, so that log-odds stay finite.
_LEAST_ACTIVATION, _SHARES = 0.15, (0.02, 0.98)
#: Most log-odds that a beat's pattern gives.
_MOST_ODDS = 4.0
#: What the tracks' own evidence counts where the networks are silent, as with quick pulses (a spread, in nats): what it
#: counted everywhere by an earlier fit, beside the networks.
_ALONE = 0.6
#: Beats of a stretch in which repetition is measured, and the fewest of a last one.
_STRETCH, _SHORT_STRETCH = 32, 16
#: Variance or range under which a cue is the same throughout.
_CONSTANT = 1e-9
#: How strongly flux and chroma are compressed, ``log(1 + x * size)``, and the weight of harmony beside rhythm.
_FLUX_GAIN, _CHROMA_GAIN, _HARMONY_SHARE = 10, 200, 0.7


@dataclass(frozen=True)
class SummedEvidence:
    """All tracks' evidence together, 100 frames a second: ``flux`` and ``energy`` ``(frames, 3)``, ``chroma``
    ``(frames, 12)``."""

    flux: NDArray[np.float32]
    energy: NDArray[np.float32]
    chroma: NDArray[np.float32]

    @classmethod
    def of(cls, tracks: Sequence[AnalysedTrack]) -> SummedEvidence:
        n = max(len(track.evidence) for track in tracks)

        def total(parts: list[NDArray[np.float32]]) -> NDArray[np.float32]:
            out = np.zeros((n, parts[0].shape[1]), dtype=np.float32)
            for part in parts:
                out[: len(part)] += part
            return out

        return cls(
            total([track.evidence.flux for track in tracks]),
            total([track.evidence.energy for track in tracks]),
            total([track.evidence.chroma for track in tracks]),
        )


def _near(curve: NDArray[Any], frames: Ints, radius: int = 4) -> NDArray[Any]:
    """What ``curve`` has within ``radius`` frames of each of ``frames``, ``(frames, 2 * radius + 1, ...)``."""
    last = len(curve) - 1
    around = np.clip(frames, 0, last)[:, None] + np.arange(-radius, radius + 1)
    return np.asarray(curve[np.clip(around, 0, last)])


def _peak_near(curve: NDArray[Any], frames: Ints, radius: int = 4) -> Curve:
    """The maximum of ``curve`` within ``radius`` frames of each of ``frames``."""
    return np.asarray(_near(curve, frames, radius).max(axis=1))


def _standardised(x: Curve) -> Curve:
    spread = x.std()
    return np.clip((x - x.mean()) / spread, -3, 3) if spread > 1e-12 else np.zeros_like(x)


def _segments(values: NDArray[np.float32], frames: Ints) -> NDArray[np.float64]:
    """Mean of ``values`` (frames, n) from each beat to the next; the last as long as the one before."""
    edges = np.clip(np.append(frames, 2 * frames[-1] - frames[-2]), 0, len(values))
    lengths = np.diff(edges)
    there = lengths > 0  # a track may end before the take does
    out = _sums_between(values, edges)
    out[there] /= lengths[there, None]
    return out


@njit(cache=True, nogil=True)
def _sums_between(values: NDArray[np.float32], edges: Ints) -> NDArray[np.float64]:
    """Sums of ``values`` (frames, n) from each edge to the next."""
    out = np.zeros((len(edges) - 1, values.shape[1]))
    for i in range(len(out)):
        for frame in range(edges[i], edges[i + 1]):
            for k in range(out.shape[1]):
                out[i, k] += values[frame, k]
    return out


def downbeat_evidence(context: AnalysisContext, frames: Ints) -> Curve:
    """How much each beat, at ``frames``, sounds like a downbeat, as log-odds, ``(beats,)``."""
    return combined(
        tracks_evidence(context.tracks, context.summed, frames),
        activation_evidence(context.beat_activation, frames),
        pattern_odds(context.bands, frames),
    )


def combined(shown: Curve, likely: Curve, pattern: Curve, weights: tuple[float, float] = EVIDENCE_WEIGHTS) -> Curve:
    """The tracks' own evidence, the activation's and the pattern's as one, ``(beats,)`` each.

    The tracks' own counts as far as it goes along with what the two networks say over all these beats: a band's bass
    drum and chords do, a lone singer's loud notes do not. ``weights``: of the tracks' own where it goes along
    altogether, and of the pattern.
    """
    told = likely + weights[1] * pattern
    if np.ptp(told) < _CONSTANT:
        return told + _ALONE * shown
    return told + weights[0] * max(0.0, _correlation(shown, told)) * shown


def _correlation(a: Curve, b: Curve) -> float:
    """Pearson's correlation, 0 where either is the same throughout."""
    a, b = a - a.mean(), b - b.mean()
    spread = float(np.sqrt((a @ a) * (b @ b)))
    return float(a @ b) / spread if spread > _CONSTANT else 0.0


def pattern_odds(bands: TakeBands | None, frames: Ints) -> Curve:
    """How likely each beat opens a bar by what is played beat by beat, as log-odds, ``(beats,)``; 0 where there is
    nothing to read."""
    if bands is None or len(frames) < FEWEST_BEATS:
        return np.zeros(len(frames))
    return np.clip(read_pattern(bands.along(frames))[1], -_MOST_ODDS, _MOST_ODDS)


def tracks_evidence(tracks: Sequence[AnalysedTrack], summed: SummedEvidence, frames: Ints) -> Curve:
    """How much the tracks' own sound makes each beat a downbeat, ``(beats,)``; mean 0, spread about 1.

    Each cue counts by how strongly it repeats bar by bar in this take: a lone melody has no harmony to speak of, a bass
    line may play every beat alike.
    """
    low = _against_neighbourhood(_peak_near(summed.flux, frames)[:, 0])
    levels = [
        np.max([track.evidence.energy[np.minimum(frames + k, len(track.evidence) - 1), 0] for k in range(12)], axis=0)
        for track in tracks
    ]  # low instruments in the first 120 ms: a bass that rings on shows no new attack
    deepest = max(float(x.mean()) for x in levels) or 1.0
    low_level = np.zeros(len(frames))
    together = np.zeros(len(frames))
    harmony = np.zeros(len(frames))
    for track, own_level in zip(tracks, levels, strict=True):
        e = track.evidence
        here = np.minimum(frames, len(e) - 1)
        # a track with little in the lows (a snare) says nothing about the low drum
        own_low = _against_neighbourhood(own_level) * (float(own_level.mean()) / deepest) ** 2
        low_level += own_low * _periodic_share(own_low)
        # most tracks are stronger on the downbeat; a backbeat, which answers the low drum, counts with the other sign
        own = _against_neighbourhood(_near(e.flux, here).sum(axis=-1).max(axis=1))
        together += own * np.clip(2 * np.mean(own * low) + _NEUTRAL, -1, 1)
        # chords change on the downbeat; sustaining tracks show it best, and fluctuating noise is no chord
        chroma = np.sqrt(_segments(e.chroma, here))
        change_here = _change(chroma, 1)
        change = _against_neighbourhood(
            _against_neighbourhood(change_here) + _against_neighbourhood(_change(chroma, 2))
        )
        chordal = float(np.clip(1 - track.evidence.percussiveness / 4, _LEAST_CHORDAL, 1)) * min(
            1.0, float(change_here.std()) / _CHORD_CHANGES
        )
        harmony += change * chordal * _periodic_share(change)
    cues = (
        (_LOW_LEVEL, _standardised(low_level)),
        (_LOW_ATTACK, low),
        (_TOGETHER, _standardised(together)),
        (_HARMONY, _standardised(harmony)),
    )
    return _standardised(np.sum([weight * cue * (_ALWAYS + _periodic_share(cue)) for weight, cue in cues], axis=0))


def activation_evidence(beat_activation: Curve, frames: Ints) -> Curve:
    """How likely each beat is a downbeat to the beat activation, as log-odds, ``(beats,)``."""
    beat, down = _peak_near(beat_activation, frames, 3).T
    share = np.clip(down / np.maximum(np.maximum(beat, down), _LEAST_ACTIVATION), *_SHARES)
    return np.asarray(np.log(share / (1 - share)))


def _against_neighbourhood(x: Curve, span: int = 17) -> Curve:
    """``x`` less its mean over ``span`` beats around, spread 1: a quiet verse has downbeats as a loud one has."""
    return _standardised(x - uniform_filter1d(np.asarray(x, dtype=np.float64), span, mode="nearest"))


@njit(cache=True, nogil=True)
def _periodic_share(cue: Curve) -> float:
    """The share of a cue's variance that repeats at some bar length from 2 to 7 beats: 0 for noise, towards 1.

    The share of variance between the beats of the bar, above what chance gives, in stretches of 32 beats
    (so that an odd bar spoils only one of them).
    """
    best = 0.0
    for m in range(2, 8):
        total, count = 0.0, 0
        for first in range(0, len(cue), _STRETCH):
            stretch = cue[first : first + _STRETCH]
            beats, variance = len(stretch), stretch.var()
            if beats < 3 * m or variance < _CONSTANT or (first > 0 and beats < _SHORT_STRETCH):
                continue
            places = np.zeros(m)
            for k in range(m):
                places[k] = stretch[k : beats // m * m : m].mean()
            chance = (m - 1) / (beats - 1)
            total += max(0.0, places.var() / variance - chance) / (1 - chance)
            count += 1
        if count:
            best = max(best, total / count)
    return best


def _change(chroma: Curve, span: int) -> Curve:
    """One minus the cosine between the ``span`` beats before and the ``span`` beats from each beat on."""
    sums = np.concatenate([np.zeros((1, chroma.shape[1])), np.cumsum(chroma, axis=0)])
    k = np.arange(len(chroma))
    before = sums[k] - sums[np.maximum(k - span, 0)]
    after = sums[np.minimum(k + span, len(chroma))] - sums[k]
    norm = np.linalg.norm(before, axis=1) * np.linalg.norm(after, axis=1)
    return np.where(norm > 1e-9, 1 - (before * after).sum(axis=1) / np.maximum(norm, 1e-9), 0.0)


def likeness(summed: SummedEvidence, frames: Ints, longest: int = 16) -> Curve:
    """How alike each beat and those up to ``longest`` beats later are, ``(beats - 1, longest + 1)``: in what is played
    within them and in their harmony. Not a number where the later beat lies behind the last."""
    played = []
    for f in np.arange(4) / 4:  # quarters of the beat carry the pattern
        inner = frames[:-1] + np.round(f * np.diff(frames)).astype(np.int64)
        played.append(_peak_near(np.log1p(_FLUX_GAIN * summed.flux.astype(np.float64)), inner))
    chroma = np.log1p(_CHROMA_GAIN * _segments(summed.chroma, frames))[:-1]
    pattern = np.concatenate(
        [_standardised_columns(np.concatenate(played, axis=1)), _HARMONY_SHARE * _standardised_columns(chroma)], axis=1
    )
    out = np.full((len(pattern), longest + 1), np.nan)
    for lag in range(1, min(longest + 1, len(pattern) - 4)):
        out[:-lag, lag] = (pattern[lag:] * pattern[:-lag]).mean(axis=1)
    return out


def repetition(alike: Curve) -> Curve:
    """Self-similarity of all beats at each lag, ``(lags,)``; 0 where there is nothing to compare. ``alike``: from
    :func:`likeness`."""
    lags = alike.shape[1]
    return np.array([own.mean() if len(own := alike[~np.isnan(alike[:, k]), k]) else 0.0 for k in range(lags)])


def repetition_around(alike: Curve, beats: int) -> Curve:
    """The same around each beat, ``(beats - 1, lags)``: of so many ``beats``."""
    there = ~np.isnan(alike)
    count = uniform_filter1d(there.astype(np.float64), beats, axis=0, mode="constant")
    total = uniform_filter1d(np.where(there, alike, 0.0), beats, axis=0, mode="constant")
    return np.asarray(np.where(count > _CONSTANT, total / np.maximum(count, _CONSTANT), 0.0))


def _standardised_columns(x: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray((x - x.mean(axis=0)) / (x.std(axis=0) + 1e-9))
