"""A stretch of an analysed track by itself, and the same in silence at its old place."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.listening.attacks import Attacks
from core.listening.pitches import PITCH_RATE
from core.listening.rates import FRAME_RATE
from core.listening.spectrum import Evidence
from core.listening.track import AnalysedTrack

Rows = NDArray[Any]
#: Frames for each slow one: excerpts begin on a multiple of these.
SLOW = round(FRAME_RATE / PITCH_RATE)


def excerpt(track: AnalysedTrack, start: int, stop: int) -> AnalysedTrack:
    """What lies from frame ``start``, a multiple of :data:`SLOW`, to before frame ``stop``; it starts at time 0."""
    first, behind = start / FRAME_RATE, stop / FRAME_RATE
    there = (track.attacks.seconds >= first) & (track.attacks.seconds < behind)
    at, strength, sharpness = (getattr(track.attacks, f.name)[there] for f in fields(Attacks))
    evidence = _each(track.evidence, lambda rows, every: rows[start // every : -(-stop // every)])
    seconds = len(evidence) / FRAME_RATE
    return replace(track, evidence=evidence, attacks=Attacks(at - first, strength, sharpness), seconds=seconds)


def in_silence(track: AnalysedTrack, start: int, count: int) -> AnalysedTrack:
    """An excerpt that starts at frame ``start`` of ``count`` frames, with nothing around it."""

    def padded(rows: Rows, every: int) -> Rows:
        before = start // every
        return np.pad(rows, ((before, max(0, -(-count // every) - before - len(rows))), (0, 0)))

    attacks = replace(track.attacks, seconds=track.attacks.seconds + start / FRAME_RATE)
    return replace(track, evidence=_each(track.evidence, padded), attacks=attacks, seconds=count / FRAME_RATE)


def _each(evidence: Evidence, change: Callable[[Rows, int], Rows]) -> Evidence:
    """The evidence with each of its arrays changed; ``change`` gets it and how many frames one of its rows stands
    for."""
    names = [f.name for f in fields(Evidence)]
    return Evidence(**{n: change(getattr(evidence, n), SLOW if n == "pitches" else 1) for n in names})
