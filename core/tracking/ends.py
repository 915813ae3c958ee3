"""Where the mapped music begins and ends: the beats that are certain, and those around them that still sound like it.

The first bars of a free player and the last hits of a band have small posteriors, as few beats lie around
them; they are music all the same. Applause and noise are as loud, but their pitch classes are flat. A stretch in which
two tempos are equally likely has small posteriors, too: where all that sounds speaks for music, it is taken in whole.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.listening.track import AnalysedTrack
from core.tracking.parameters import FEWEST_BEATS

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Beats that may be taken in on either side.
MOST_BEATS = 8
#: How loud, and how far from flat, a stretch has to be against the certain music's median.
_LOUD, _TONAL = 0.35, 0.75
#: The least attack on a beat that is taken in last.
_LEAST_ATTACK = 0.3
#: A stretch of music that goes on for no more beats than this beyond an end says nothing against it.
_FEW = 4


@dataclass(frozen=True)
class TakeSound:
    """What tells music from applause and noise, 100 frames a second. ``loudness`` ``(frames,)``: the loudest track's
    energy, on a linear scale of its own; ``peakedness`` ``(frames,)``: the largest pitch class against all twelve
    together; a twelfth is flat."""

    loudness: Floats
    peakedness: Floats

    @classmethod
    def of(cls, tracks: Sequence[AnalysedTrack], count: int) -> TakeSound:
        """Of ``count`` frames; silence where no track goes on as long."""
        loudest, chroma = np.zeros(count), np.zeros((count, 12))
        for track in tracks:
            energy = np.expm1(track.evidence.energy.astype(np.float64)).sum(axis=1)[:count]
            loudest[: len(energy)] = np.maximum(loudest[: len(energy)], energy)
            chroma[: len(energy)] += track.evidence.chroma[:count]
        return cls(loudest, np.asarray(chroma.max(axis=1) / (chroma.sum(axis=1) + 1e-9)))


def reaching(found: Ints, music: Ints) -> Ints:
    """``found`` with those beats of ``music`` before and behind it that are more than a few."""
    before, behind = music[music < found[0]], music[music > found[-1]]
    parts = (before if len(before) > _FEW else before[:0], found, behind if len(behind) > _FEW else behind[:0])
    return np.concatenate(parts)


def widened(frames: Ints, certain: slice, sound: TakeSound, onset_envelope: Floats) -> slice:
    """``certain`` (a slice of the beats ``frames``, 100 a second) with the beats on either side that still sound like
    the music between them, up to :data:`MOST_BEATS`, each end on a beat with an attack."""
    first, last = certain.start, certain.stop - 1
    if last - first < FEWEST_BEATS:
        return certain
    loud, tonal = sound.loudness, sound.peakedness

    def alike(i: int) -> bool:
        """Whether what sounds between beats i and i + 1 is as loud and as far from flat as the certain music."""
        a, b = frames[i], min(frames[i + 1], len(loud))
        return bool(b > a and loud[a:b].mean() > _LOUD * usual[0] and tonal[a:b].mean() > _TONAL * usual[1])

    inside = slice(int(frames[first]), int(frames[last]))
    usual = float(np.median(loud[inside])), float(np.median(tonal[inside]))
    has_attack = [onset_envelope[max(0, f - 4) : f + 5].max(initial=0.0) > _LEAST_ATTACK for f in frames.tolist()]
    end = last
    for i in range(last, min(len(frames) - 1, last + MOST_BEATS)):
        if not alike(i):
            break
        if has_attack[i + 1]:
            end = i + 1
    begin = first
    for i in range(first - 1, max(-1, first - 1 - MOST_BEATS), -1):
        if not alike(i):
            break
        if has_attack[i]:
            begin = i
    return slice(begin, end + 1)
