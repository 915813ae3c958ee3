"""Doubts: where a map may be wrong, why, and what could be done about it. Start with :func:`find_doubts`.

To add one: a function here that returns :class:`~core.tracking.doubts.doubt.Doubt` values, called in
:func:`find_doubts`; its thresholds go to :mod:`core.tracking.parameters`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from core.tempomap import TempoMap
from core.tracking.candidate import MapCandidate
from core.tracking.context import AnalysisContext
from core.tracking.doubts import about_take
from core.tracking.doubts.about_bars import contested, odd_bars, other_meters
from core.tracking.doubts.about_beats import beside, jumps, weak
from core.tracking.doubts.about_ends import about_ends
from core.tracking.doubts.doubt import WRONG, Doubt
from core.tracking.doubts.felt_beats import to_felt_beats
from core.tracking.doubts.map_view import MapView
from core.tracking.hypothesis import TempoHypothesis

__all__ = ["find_doubts", "to_felt_beats"]

#: Remedies that are offered with a doubt at most.
_MOST_REMEDIES = 3


def find_doubts(
    context: AnalysisContext,
    candidate: MapCandidate,
    tempo_map: TempoMap,
    confidence: NDArray[np.float64],
    hypotheses: Sequence[TempoHypothesis],
) -> list[Doubt]:
    """All doubts about a map, in order of time. ``confidence``: of each beat; ``hypotheses``: the one that the map
    follows, then the others."""
    view = MapView.of(context, candidate, tempo_map, confidence)
    # beats that should be off-beats explain all the rest; so does a take in which nothing marks the beat
    phase = about_take.off_beat(context, tempo_map, candidate)
    half_off = bool(phase) and phase[0].severity == WRONG
    faint = [] if phase else about_take.faint(context, tempo_map, hypotheses[0], confidence)
    bar_lines = about_take.bar_lines(tempo_map, candidate)
    beats = [] if half_off or faint else _merged_remedies(weak(view), beside(view))
    out = [
        # uncertain beats at the end are one question
        *_merged_remedies(about_ends(view), beats),
        *jumps(view),
        *odd_bars(view),
        *other_meters(view),
        *(bar_lines or contested(view)),
        *(phase or faint),
        *about_take.bar_length(tempo_map, candidate),
        *([] if half_off else about_take.level(tempo_map, hypotheses, confidence)),
    ]
    return sorted(out, key=lambda d: (d.start, -d.severity))


def _merged_remedies(doubts: Sequence[Doubt], others: Sequence[Doubt]) -> list[Doubt]:
    """``doubts`` and those of ``others`` that lie outside all of them; remedies of the rest go to the doubt around
    them."""
    out = list(doubts)
    for other in others:
        k = next((k for k, d in enumerate(doubts) if d.start <= other.start and other.end <= d.end), None)
        if k is None:
            out.append(other)
        elif len(out[k].remedies) < _MOST_REMEDIES:
            new = [r for r in other.remedies if r not in out[k].remedies]
            out[k] = replace(out[k], remedies=[*out[k].remedies, *new][:_MOST_REMEDIES])
    return out
