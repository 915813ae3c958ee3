"""Reviewing a map as it stands after an edit: confidence of each beat, and what doubts are left or new."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from core.document.commands import Shift
from core.listening.rates import FRAME_RATE
from core.tempomap import TempoMap
from core.tempomap.pulses import has_pulses, pulsed
from core.tracking.bars import BarDivision
from core.tracking.candidate import MapCandidate
from core.tracking.confidence import confidence_features, confidence_of
from core.tracking.context import AnalysisContext
from core.tracking.decoder import posterior
from core.tracking.doubts import find_doubts, to_felt_beats
from core.tracking.doubts.doubt import LISTEN, WHOLE, Doubt, Remedy, about_all
from core.tracking.downbeats import downbeat_evidence
from core.tracking.exact_tempo import find_exact_tempo
from core.tracking.hypothesis import compared, rate
from core.tracking.parameters import FEWEST_BEATS, USUAL_RANGE
from core.tracking.pattern_margin import pattern_margin
from core.tracking.placement import PlacedBeats, place_on_attacks

Floats = NDArray[np.float64]


#: Frames (100 a second): beats nearer than this are none that can be reviewed.
_NEAREST = 5
#: Beats are those of one exact tempo, but for what was edited, if so large a share of their intervals differs by less
#: than this from the usual one, in seconds.
_EXACT, _EXACT_SHARE = 2e-4, 0.9
#: Supported beats without which lateness of the whole map is not judged, and their least support.
_FEWEST, _LEAST_SUPPORT = 16, 0.12
#: A map that lies farther than this from its attacks is doubted, in seconds, where they scatter by less than a share
#: of it.
_LATE, _SCATTER = 0.012, 0.6


def review(
    context: AnalysisContext, tempo_map: TempoMap, usual: tuple[float, float] = USUAL_RANGE
) -> tuple[Floats, list[Doubt]]:
    """Confidence a felt beat, and the doubts about the map as it stands: first those about the whole take, then
    the others in order of time. ``usual``: the tempo range that the engineer expects, felt beats a minute.

    Nothing is decoded; only how well the map's beats fit is measured: about a third of a second for four minutes.
    """
    if has_pulses(tempo_map):
        even = pulsed(tempo_map)
        share = len(even.beats()) / len(tempo_map.beats())
        confidence, found = review(context.by_attacks(), even, (usual[0] * share, usual[1] * share))
        at = np.searchsorted(even.beats().quarters, tempo_map.beats().quarters - 1e-6)
        return confidence[np.minimum(at, len(confidence) - 1)], to_felt_beats(found, even, tempo_map)
    beats = tempo_map.beats()
    frames = np.clip(np.round(beats.seconds * FRAME_RATE).astype(np.int64), 0, len(context.onset_envelope) - 1)
    if len(frames) < FEWEST_BEATS or (np.diff(frames) < _NEAREST).any():
        return np.ones(len(frames)), []

    middles = ((frames[:-1] + frames[1:]) // 2).astype(np.int64)
    chains = [frames, frames[::2], frames[1::2], np.sort(np.append(frames, middles))]
    hypothesis, *others = compared([rate(context, c, usual) for c in chains if len(c) >= FEWEST_BEATS])
    intervals = np.diff(beats.seconds)
    if np.mean(np.abs(intervals - np.median(intervals)) < _EXACT) >= _EXACT_SHARE:
        hypothesis = replace(
            hypothesis,
            exact_tempo=find_exact_tempo(context.tracks, context.ranks, context.decoding_curve, beats.seconds),
        )
    placed = place_on_attacks(context, beats.seconds)
    likely, patterns = posterior(context.decoding_curve, frames), pattern_margin(context.bands, frames)
    features = confidence_features(
        likely, placed.support, context.beat_activation[:, 0], beats.seconds, hypothesis, others, patterns
    )
    confidence = confidence_of(features)
    evidence = downbeat_evidence(context, frames)
    candidate = MapCandidate(tempo_map, placed.support, hypothesis, _division(tempo_map), evidence)
    found = _late(tempo_map, placed)
    rest = find_doubts(context, candidate, tempo_map, confidence, [hypothesis, *others])
    if found:  # a map beside its attacks fits badly, too: one doubt about that is enough
        rest = [d for d in rest if d.kind not in ("phase", "level")]
    return confidence, sorted([*found, *rest], key=lambda d: d.kind not in WHOLE)


def _division(tempo_map: TempoMap) -> BarDivision:
    beats = tempo_map.beats()
    downs = np.flatnonzero(beats.beat == 1)
    lengths = np.diff(downs)
    main = int(np.bincount(lengths).argmax()) if len(lengths) else tempo_map.meters.meter_at(1).beats
    return BarDivision(downs, main, 0.0, {})


def _late(tempo_map: TempoMap, placed: PlacedBeats) -> list[Doubt]:
    """The whole map lies early or late: the same distance to the attacks nearly everywhere."""
    off = placed.seconds - tempo_map.beats().seconds
    off = off[placed.support > _LEAST_SUPPORT]  # attacks far beside a beat support it little
    if len(off) < _FEWEST:
        return []
    by = float(np.median(off))
    if abs(by) < _LATE or float(np.median(np.abs(off - by))) > _SCATTER * abs(by):
        return []
    words = f"The whole map lies about {abs(1000 * by):.0f} ms {'late' if by < 0 else 'early'} against the attacks."
    remedy = Remedy(f"move all by {1000 * by:+.0f} ms", Shift(round(by, 4)))
    return [about_all("late", tempo_map, LISTEN, words, [remedy])]
