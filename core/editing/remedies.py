"""Remedies that can be trusted: each is tried before it is offered.

A remedy has to fit the evidence better than the map as it is, contradict nothing that was said, and leave no doubt of
the same kind at its place. As every remedy raises the same measure, a list of doubts cannot lead in circles.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from core.document import Document
from core.document.commands import Command
from core.editing import Recording, apply
from core.listening.rates import FRAME_RATE
from core.tempomap import TempoMap
from core.tempomap.bar_lines import lines_of
from core.tempomap.edits import EditError
from core.tempomap.pulses import has_pulses, pulsed
from core.tracking.context import AnalysisContext
from core.tracking.decoder import SHARPNESS
from core.tracking.doubts.doubt import Doubt
from core.tracking.downbeats import downbeat_evidence
from core.tracking.hypothesis import rate
from core.tracking.parameters import FREE, ODD_BAR
from core.tracking.review import review
from core.tracking.semi_markov.model import change_costs

#: Kinds of doubts about the tempo of the whole take; all others are about single beats or bars.
_ABOUT_LEVEL = ("level", "phase")
#: By how much a remedy has to fit better, in nats: beats and bars together (odds of 19 to 1: right in 95 of 100), and
#: the tempo of the whole take, whose score is on its own scale.
_BETTER, _BETTER_TAKE = 2.94, 0.3


def beats_fit(context: AnalysisContext, tempo_map: TempoMap) -> float:
    """How well a map's beats fit: the score of the chain in the decoder's own model, in units of a full attack."""
    frames = np.round(tempo_map.beats().seconds * FRAME_RATE).astype(np.int64)
    frames = frames[(frames >= 0) & (frames < len(context.decoding_curve))]
    gaps = np.diff(frames).astype(np.float64)
    if len(gaps) < 2 or (gaps <= 0).any():
        return -np.inf
    near = np.max([np.roll(context.decoding_curve, k) for k in (-1, 0, 1)], axis=0)
    costs = np.minimum(change_costs(gaps, FREE.change), FREE.hold)
    return float((near[frames] - FREE.beat).sum() - costs.sum())


#: The evidence of downbeats by the frames of the beats: it takes a while, and many remedies leave the beats alone.
Known = dict[bytes, NDArray[np.float64]]


def bars_fit(context: AnalysisContext, tempo_map: TempoMap, known: Known | None = None) -> float:
    """How well a map's bar lines fit, in nats: how likely its lines are downbeats and its other beats none, less what
    odd bars cost. ``known``: evidence that was calculated before."""
    known = {} if known is None else known
    beats = tempo_map.beats()
    frames = np.clip(np.round(beats.seconds * FRAME_RATE).astype(np.int64), 0, len(context.onset_envelope) - 1)
    if len(frames) < 8:
        return 0.0
    key = frames.tobytes()
    if key not in known:
        known[key] = downbeat_evidence(context.tracks, context.summed, frames, context.beat_activation)
    evidence = known[key]
    lengths = np.diff(lines_of(tempo_map)[0])
    usual = np.bincount(lengths).argmax() if len(lengths) else 4
    as_called = np.where(beats.beat == 1, evidence, -evidence)
    return float(-np.logaddexp(0, -as_called).sum() - ODD_BAR * np.count_nonzero(lengths != usual))


def take_fit(context: AnalysisContext, tempo_map: TempoMap) -> float:
    """How well a map's tempo level fits the whole take, in nats."""
    frames = np.round(tempo_map.beats().seconds * FRAME_RATE).astype(np.int64)
    frames = frames[(frames >= 0) & (frames < len(context.onset_envelope))]
    return rate(context, frames).score if len(frames) >= 8 else -np.inf


def fit(context: AnalysisContext, tempo_map: TempoMap, known: Known | None = None) -> float:
    """How well a map's beats and bar lines fit together, in nats."""
    return SHARPNESS * beats_fit(context, tempo_map) + bars_fit(context, tempo_map, known)


def trusted(
    doubts: Sequence[Doubt],
    document: Document,
    recording: Recording,
    usual: tuple[float, float],
) -> list[Doubt]:
    """The doubts with only those remedies that can be trusted.

    ``usual``: the tempo range that the engineer expects. Raises :class:`core.tracking.context.NoBeats`.
    """
    if document.map is None:
        return list(doubts)
    context = recording.context()
    before = document.map
    if has_pulses(before):
        context = context.by_attacks()
    known: Known = {}
    fits: dict[bool, float] = {}

    def fits_by(tempo_map: TempoMap, about_level: bool) -> float:
        even = _even(tempo_map)
        return take_fit(context, even) if about_level else fit(context, even, known)

    def is_trusted(doubt: Doubt, command: Command) -> bool:
        try:
            after = apply(command, document, recording).document.map
        except EditError:
            return False
        if after is None or after == before:
            return False
        about_level = doubt.kind in _ABOUT_LEVEL
        if about_level not in fits:
            fits[about_level] = fits_by(before, about_level)
        if fits_by(after, about_level) < fits[about_level] + (_BETTER_TAKE if about_level else _BETTER):
            return False
        left = review(recording.context(), after, usual)[1]
        return not any(d.kind == doubt.kind and d.start < doubt.end and doubt.start < d.end for d in left)

    return [replace(d, remedies=[r for r in d.remedies if is_trusted(d, r.command)]) for d in doubts]


def _even(tempo_map: TempoMap) -> TempoMap:
    return pulsed(tempo_map) if has_pulses(tempo_map) else tempo_map
