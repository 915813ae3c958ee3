"""What beats are found with, and what is found."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from core.listening.guides import GuideRank
from core.tempomap import Meter, TempoMap
from core.tracking.candidate import MapCandidate
from core.tracking.doubts.doubt import Doubt
from core.tracking.hypothesis import TempoHypothesis
from core.tracking.parameters import USUAL_RANGE

Floats = NDArray[np.float64]
#: First frame of a piece of music and the one behind it.
Stretch = tuple[int, int]
#: Called with a stage in plain words and the share done, 0 to 1; may raise to stop the work.
Progress = Callable[[str, float], None]


def no_progress(_stage: str, _share: float) -> None:
    """For callers that do not watch."""


@dataclass(frozen=True)
class TrackingOptions:
    """What the engineer says before beats are found.

    Attributes
    ----------
    tempo
        The expected range, felt beats a minute.
    meter
        The main meter; None: found.
    guides
        Weights by track name; empty: automatic.
    start, end : seconds
        Between which the mapped music lies; None: found.
    pins : seconds
        Times that have to be beats.
    exact_tempo
        One exact tempo (True), never (False), or whichever fits (None).
    no_beats : pairs of seconds
        Stretches whose sound says nothing of beats: they are counted through evenly.
    known : runs of seconds
        Beats in a row that are known, with none between.
    refused : pairs of seconds
        Where beats had been found that are none: nothing speaks for a beat there.
    levels : (seconds, seconds, range) of stretches
        Where a recording holds several pieces, the range of one, as ``tempo``, that follows from what is known of it.
    """

    tempo: tuple[float, float] = USUAL_RANGE
    meter: Meter | None = None
    guides: Mapping[str, float] = field(default_factory=dict)
    start: float | None = None
    end: float | None = None
    pins: Sequence[float] = ()
    exact_tempo: bool | None = None
    no_beats: Sequence[tuple[float, float]] = ()
    known: Sequence[Sequence[float]] = ()
    refused: Sequence[tuple[float, float]] = ()
    levels: Sequence[tuple[float, float, tuple[float, float]]] = ()

    @property
    def fixed(self) -> Floats:
        """Seconds of all beats that are fixed: pins and known ones, rising."""
        return np.unique(np.concatenate([np.asarray(run, dtype=np.float64) for run in (self.pins, *self.known)]))


@dataclass(frozen=True)
class Alternative:
    """Another reading of the whole take, ready to be used; ``score`` (nats) compares with the chosen one's."""

    name: str
    score: float
    map: TempoMap


@dataclass(frozen=True)
class TrackingResult:
    """What was found.

    Attributes
    ----------
    map : TempoMap
    confidence : (beats,)
        How probably each felt beat is right, 0 to 1.
    guides : list of GuideRank
        How each track served as guide, in the order given.
    doubts : list of Doubt
        Where the map may be wrong, in order of time.
    alternatives : list of Alternative
        Other readings, the likeliest first.
    features : (beats, features)
        What confidence is made of (:func:`core.tracking.confidence.confidence_features`).
    hypotheses : list of TempoHypothesis
        The chosen one and the others.
    candidate : MapCandidate
        What the map was assembled from.
    pieces : list of pairs of frames
        Where each of several pieces lies, in order of time; empty where the recording holds one only.
    """

    map: TempoMap
    confidence: Floats
    guides: list[GuideRank]
    doubts: list[Doubt]
    alternatives: list[Alternative]
    features: Floats
    hypotheses: list[TempoHypothesis]
    candidate: MapCandidate
    pieces: list[Stretch] = field(default_factory=list)

    @property
    def chains(self) -> list[NDArray[np.int64]]:
        """The beats of each hypothesis, in frames."""
        return [h.frames for h in self.hypotheses]
