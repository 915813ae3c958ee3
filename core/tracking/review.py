"""Reviewing a map as it stands after an edit: confidence of each beat, and what doubts are left or new."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from core.document.commands import Shift
from core.listening.rates import FRAME_RATE
from core.tempomap import TempoMap
from core.tempomap.pulses import has_pulses, pulsed
from core.tracking.bars import BarDivision, divisions, main_beats, rated
from core.tracking.candidate import MapCandidate
from core.tracking.confidence import SAME_TEMPO, confidence_features, confidence_of
from core.tracking.context import AnalysisContext, NoBeats
from core.tracking.decoder import posterior
from core.tracking.doubts import find_doubts, to_felt_beats
from core.tracking.doubts.doubt import LISTEN, WHOLE, Doubt, Remedy, about_all
from core.tracking.doubts.in_piece import between_pieces, in_piece
from core.tracking.downbeats import downbeat_evidence, likeness, repetition
from core.tracking.exact_tempo import aligned, find_exact_tempo
from core.tracking.hypothesis import TempoHypothesis, compared, rate
from core.tracking.parameters import FEWEST_BEATS, USUAL_RANGE
from core.tracking.pattern_margin import pattern_margin
from core.tracking.pieces import parts_of, still_apart
from core.tracking.placement import PlacedBeats, place_on_attacks
from core.tracking.results import Stretch

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


#: Frames (100 a second): beats nearer than this are none that can be reviewed.
_NEAREST = 5
#: Beats are those of one exact tempo, but for what was edited and for free ends, if so large a share of their intervals
#: differs by less than this from the usual one, in seconds.
_EXACT, _EXACT_SHARE = 2e-4, 0.7
#: How far a chain's beats are placed, in frames; share of a map's beats that lie so near to the chain they come from.
_PLACED, _FOLLOWED = 4, 0.9
#: Supported beats without which lateness of the whole map is not judged, and their least support.
_FEWEST, _LEAST_SUPPORT = 16, 0.12
#: A map that lies farther than this from its attacks is doubted, in seconds, where they scatter by less than a share
#: of it.
_LATE, _SCATTER = 0.012, 0.6


def review(
    context: AnalysisContext,
    tempo_map: TempoMap,
    usual: tuple[float, float] = USUAL_RANGE,
    chains: Sequence[Ints] = (),
    pieces: Sequence[Stretch] = (),
) -> tuple[Floats, list[Doubt]]:
    """Confidence a felt beat, and the doubts about the map as it stands: first those about the whole take, then
    the others in order of time.

    ``usual``: the tempo range that the engineer expects, felt beats a minute; ``chains``: the beats (frames) of each
    tempo hypothesis that a search compared: the map is compared with them; ``pieces``: those that it found.

    Nothing is decoded; only how well the map's beats fit is measured: about a third of a second for four minutes. Where
    a recording holds several pieces, each is reviewed by itself.
    """
    length = len(context.onset_envelope)
    # tracks may have gone since the search
    chains = [c for chain in chains if len(c := chain[chain < length]) >= FEWEST_BEATS]
    stretches = still_apart(pieces, tempo_map, length)
    if not stretches:
        confidence, doubts = _review(context, tempo_map, usual, chains)
        return confidence, _whole_first(doubts)
    beats = tempo_map.beats()
    confidence = np.zeros(len(beats))
    parts = [(s, part) for s, part in zip(stretches, parts_of(tempo_map, stretches), strict=True) if part]
    doubts = [between_pieces(*pair) for pair in pairwise(part for _, part in parts)]
    for (start, stop), part in parts:
        try:
            alone = context.between(start, stop)
        except NoBeats:
            continue
        own_chains = [own for c in chains if len(own := c[(c >= start) & (c < stop)]) >= FEWEST_BEATS]
        sure, found = _review(alone, part, usual, own_chains)
        first = int(part.beats().index[0] - beats.index[0])
        confidence[first : first + len(sure)] = sure
        doubts += in_piece(found, part, part is parts[0][1], part is parts[-1][1])
    return confidence, _whole_first(sorted(doubts, key=lambda d: d.start))


def _whole_first(doubts: Sequence[Doubt]) -> list[Doubt]:
    return sorted(doubts, key=lambda d: d.kind not in WHOLE)


def _review(
    context: AnalysisContext, tempo_map: TempoMap, usual: tuple[float, float], chains: Sequence[Ints]
) -> tuple[Floats, list[Doubt]]:
    """:func:`review` of one piece."""
    if has_pulses(tempo_map):
        even = pulsed(tempo_map)
        share = len(even.beats()) / len(tempo_map.beats())
        confidence, found = _review(context.by_attacks(), even, (usual[0] * share, usual[1] * share), chains)
        at = np.searchsorted(even.beats().quarters, tempo_map.beats().quarters - 1e-6)
        return confidence[np.minimum(at, len(confidence) - 1)], to_felt_beats(found, even, tempo_map)
    beats, frames = tempo_map.beats(), _frames(tempo_map, len(context.onset_envelope))
    if len(frames) < FEWEST_BEATS or (np.diff(frames) < _NEAREST).any():
        return np.ones(len(frames)), []

    own = next((chain for chain in chains if _follows(frames, chain)), frames)
    rivals = _at_other_tempos(own, usual, chains)
    hypothesis, *others = compared([rate(context, chain, usual) for chain in (own, *rivals)])
    hypothesis = replace(hypothesis, frames=frames)
    intervals = np.diff(beats.seconds)
    if np.mean(np.abs(intervals - np.median(intervals)) < _EXACT) >= _EXACT_SHARE:
        exact = find_exact_tempo(context.tracks, context.ranks, context.decoding_curve, beats.seconds)
        hypothesis = replace(hypothesis, exact_tempo=exact and aligned(exact, beats.seconds))
    placed = place_on_attacks(context, beats.seconds)
    likely, patterns = posterior(context.decoding_curve, frames), pattern_margin(context.bands, frames)
    features = confidence_features(
        likely, placed.support, context.beat_activation[:, 0], beats.seconds, hypothesis, others, patterns
    )
    confidence = confidence_of(features)
    evidence = downbeat_evidence(context, frames)
    division = _division(context, tempo_map, hypothesis, evidence)
    candidate = MapCandidate(tempo_map, placed.support, hypothesis, division, evidence)
    found = _late(tempo_map, placed)
    rest = find_doubts(context, candidate, tempo_map, confidence, [hypothesis, *others])
    if found:  # a map beside its attacks fits badly, too: one doubt about that is enough
        rest = [d for d in rest if d.kind not in ("phase", "level")]
    return confidence, [*found, *rest]


def _frames(tempo_map: TempoMap, length: int) -> Ints:
    """The beats of a map in a recording of ``length`` frames."""
    return np.clip(np.round(tempo_map.beats().seconds * FRAME_RATE).astype(np.int64), 0, length - 1)


def _follows(frames: Ints, chain: Ints) -> bool:
    """Whether a map is what became of a chain: its beats placed on attacks, some of them edited. Then the whole take is
    judged by the chain, as the search did."""
    after = np.clip(np.searchsorted(chain, frames), 1, len(chain) - 1)
    off = np.minimum(np.abs(chain[after] - frames), np.abs(chain[after - 1] - frames))
    return _is_same_tempo(frames, chain) and bool(np.mean(off <= _PLACED) >= _FOLLOWED)


def _at_other_tempos(own: Ints, usual: tuple[float, float], chains: Sequence[Ints]) -> list[Ints]:
    """Chains at other tempos than that of ``own``: those of ``chains``; where no search looked there, its half and
    double, as far as they are usual tempos."""
    found = [chain for chain in chains if not _is_same_tempo(chain, own)]
    if len(found) < len(chains):
        return found
    middles = ((own[:-1] + own[1:]) // 2).astype(np.int64)
    counted = [own[::2], own[1::2], np.sort(np.append(own, middles))]
    counted = [c for c in counted if len(c) >= FEWEST_BEATS and usual[0] <= _bpm(c) <= usual[1]]
    return found + [c for c in counted if not any(_is_same_tempo(c, chain) for chain in found)]


def _is_same_tempo(one: Ints, other: Ints) -> bool:
    return bool(abs(np.log(_bpm(one) / _bpm(other))) <= SAME_TEMPO)


def _bpm(frames: Ints) -> float:
    return float(60 * FRAME_RATE / np.median(np.diff(frames)))


def _division(
    context: AnalysisContext, tempo_map: TempoMap, hypothesis: TempoHypothesis, evidence: Floats
) -> BarDivision:
    """The map's own bars, with the scores of the best ones of every length."""
    downs = np.flatnonzero(tempo_map.beats().beat == 1)
    main = main_beats(downs) if len(downs) > 1 else tempo_map.meters.meter_at(1).beats
    similarity = repetition(likeness(context.summed, hypothesis.frames))
    own = rated(downs, main, evidence, similarity, hypothesis.ternary)
    others = divisions(evidence, similarity, ternary=hypothesis.ternary)
    return replace(own, scores={b.beats: b.score for b in others} | {main: own.score})


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
