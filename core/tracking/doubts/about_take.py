"""Doubts about the whole take: its tempo level, beats that should be off-beats, every bar line on another beat,
bars of another length.

Each is a probability that the reading is wrong, fitted on made-up takes (``training/fit.py``).
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from core.document.commands import Downbeat, Ratio, SetMeter, ShiftByBeats
from core.tempomap import Meter, TempoMap
from core.tracking.bars import usual_beats
from core.tracking.candidate import MapCandidate
from core.tracking.confidence import SAME_TEMPO, level_features
from core.tracking.context import AnalysisContext
from core.tracking.doubts.bar_evidence import evidence_gaps, length_features, line_features, other_length
from core.tracking.doubts.doubt import LISTEN, LOOK, WRONG, Doubt, Remedy, about_all, beats_later
from core.tracking.doubts.map_view import log_odds
from core.tracking.downbeats import downbeat_evidence
from core.tracking.hypothesis import TempoHypothesis, rate
from core.tracking.parameters import (
    BAR_LENGTH_WEIGHTS,
    BAR_LINE_WEIGHTS,
    BETTER_OFF_BEATS,
    DOUBTED_BAR_LENGTH,
    DOUBTED_BAR_LINES,
    DOUBTED_LEVEL,
    LEVEL_WEIGHTS,
    UNSURE_TAKE,
)

Floats = NDArray[np.float64]

#: Fewest beats for a doubt about the whole take; fewest downbeats for one about its bar lines.
_FEWEST, _FEWEST_BARS = 16, 6
#: Probability from which on a tempo is worth listening to, and from which on it is probably wrong.
_LISTEN, _PROBABLY = 0.2, 0.6
#: No beat counts as surer than this.
_SURE = 0.999

_RATIOS = (
    (0.5, "half the tempo", Ratio("1:2")),
    (2.0, "double the tempo", Ratio("2:1")),
    (1.5, "3:2 of the tempo", Ratio("3:2")),
    (2 / 3, "2:3 of the tempo", Ratio("2:3")),
)


def probability(weights: dict[str, float], **features: float) -> float:
    """0 to 1, from weights that were fitted by logistic regression and the features they belong to."""
    z = weights["constant"] + sum(weights[name] * value for name, value in features.items())
    return float(1 / (1 + np.exp(-z)))


def usual_confidence(confidence: Floats) -> float:
    """How sure beats of a take usually are: the median of their log-odds, in nats."""
    return float(np.median(log_odds(confidence, _SURE)))


def wrong_level(best: TempoHypothesis, rivals: Sequence[TempoHypothesis], confidence: Floats) -> float:
    """How probably the take is counted at a wrong tempo. ``confidence``: of each beat."""
    return probability(LEVEL_WEIGHTS, **level_features(best, rivals), usual=usual_confidence(confidence))


def level(tempo_map: TempoMap, hypotheses: Sequence[TempoHypothesis], confidence: Floats) -> list[Doubt]:
    """Another tempo may be meant. ``hypotheses``: the hypothesis that the map follows, then the others;
    ``confidence``: of each beat."""
    best = hypotheses[0]
    p = wrong_level(best, hypotheses[1:], confidence)
    if p < DOUBTED_LEVEL:
        return []
    # as the map has it: frames of 10 ms know a fast tempo to some beats a minute only
    bpm = 60 / float(np.median(np.diff(tempo_map.beats().seconds)))
    remedies: list[Remedy] = []
    tempos: list[str] = []
    for hypothesis in sorted(hypotheses[1:], key=lambda w: -w.score):
        for ratio, words, command in _RATIOS:
            if abs(np.log(hypothesis.bpm / best.bpm / ratio)) < SAME_TEMPO and all(r.words != words for r in remedies):
                remedies.append(Remedy(words, command))
                tempos.append(f"{bpm * ratio:.0f}")
    words = f"The tempo is not sure: {' or '.join(tempos[:2])} beats a minute may be meant, not {bpm:.0f}."
    if not remedies:
        # nothing else was found, and yet this looks unlikely
        remedies = [Remedy(words, command) for _, words, command in _RATIOS[:2]]
        words = f"{bpm:.0f} beats a minute may be the wrong tempo: is it half or double?"
    severity = WRONG if p > _PROBABLY else LISTEN if p > _LISTEN else LOOK
    return [about_all("level", tempo_map, severity, words, remedies[:3])]


def off_beat(context: AnalysisContext, tempo_map: TempoMap, candidate: MapCandidate) -> list[Doubt]:
    """The off-beats would make better beats."""
    best, frames = candidate.hypothesis, candidate.hypothesis.frames
    if len(frames) < _FEWEST:
        return []
    middles = ((frames[:-1] + frames[1:]) // 2).astype(np.int64)
    own, other = rate(context, frames), rate(context, middles)
    better = other.score >= best.score + BETTER_OFF_BEATS
    # the pattern is read with the usual off-beats in mind (training/patterns.py): what it takes for beats may be some
    if not better and other.features["pattern"] <= own.features["pattern"]:
        return []
    words = "More happens half-way between the beats than on them: is everything half a beat off?"
    if not better:
        words = "What is played looks as if its beats lay half-way between these: is everything half a beat off?"
    remedies = [
        Remedy("half a beat later", ShiftByBeats(0.5)),
        Remedy("half a beat earlier", ShiftByBeats(-0.5)),
    ]
    # the likelier way first: where the downbeats would sound more like downbeats
    sounds = downbeat_evidence(context, middles)
    downs = candidate.division.downbeats[
        (candidate.division.downbeats > 0) & (candidate.division.downbeats < len(sounds))
    ]
    if len(downs) and sounds[downs - 1].mean() > sounds[downs].mean():
        remedies.reverse()
    return [about_all("phase", tempo_map, WRONG if better else LISTEN, words, remedies)]


def faint(context: AnalysisContext, tempo_map: TempoMap, best: TempoHypothesis, confidence: Floats) -> list[Doubt]:
    """Hardly a beat is sure all through the take: all of them may stand elsewhere. ``confidence``: of each beat."""
    frames = best.frames
    if len(frames) < _FEWEST or float(np.median(confidence)) > UNSURE_TAKE:
        return []

    def score_shifted(by: float) -> float:
        shifted = np.round(frames[:-1] + by * np.diff(frames)).astype(np.int64)
        return rate(context, shifted).score

    names = {0.25: "a quarter of a beat later", 0.5: "half a beat later", 0.75: "a quarter of a beat earlier"}
    order = sorted(names, key=lambda by: -score_shifted(by))[:2]
    remedies = [Remedy(names[by], ShiftByBeats(by if by < 0.6 else by - 1)) for by in order]
    words = "Nobody marks the beat clearly in this take: all of it may be wrong."
    return [about_all("phase", tempo_map, LISTEN, words, remedies)]


def bar_lines(tempo_map: TempoMap, candidate: MapCandidate) -> list[Doubt]:
    """Every bar line may stand on another beat of the bar."""
    downs, beats = candidate.division.downbeats, candidate.division.beats
    if beats < 2 or len(downs) < _FEWEST_BARS:
        return []
    found = evidence_gaps(downs, usual_beats(downs, beats), candidate.evidence)
    p = probability(BAR_LINE_WEIGHTS, **line_features(found))
    if p < DOUBTED_BAR_LINES:
        return []
    shifts = [int(k) + 1 for k in np.argsort(found)[:2]]
    remedies = [Remedy(f"move every downbeat {beats_later(by)}", Downbeat(by)) for by in shifts]
    words = f"Beat {shifts[0] + 1} sounds almost as much like beat 1 as the beat that is counted as 1."
    return [about_all("bar lines", tempo_map, LISTEN, words, remedies)]


def bar_length(tempo_map: TempoMap, candidate: MapCandidate) -> list[Doubt]:
    """All bars may have another number of beats."""
    division = candidate.division
    downs, beats = division.downbeats, division.beats
    meter = tempo_map.meters.meter_at(int(tempo_map.beats().bar[0]))
    is_pulse = meter.denominator > 4 and not candidate.hypothesis.ternary
    if beats < 2 or len(downs) < _FEWEST_BARS or len(division.scores) < 2 or is_pulse:
        return []
    if probability(BAR_LENGTH_WEIGHTS, **length_features(division, candidate.evidence)) < DOUBTED_BAR_LENGTH:
        return []
    other = other_length(division)
    words = f"Bars of {other} beats fit about as well as bars of {beats}."
    return [about_all("bar length", tempo_map, LISTEN, words, _in_bars_of(other, tempo_map, candidate))]


def _in_bars_of(beats: int, tempo_map: TempoMap, candidate: MapCandidate) -> list[Remedy]:
    """All bars with so many beats; none where the meter changes, as a meter goes on until the next change."""
    changes, downs = tempo_map.meters.changes, candidate.division.downbeats
    if len(changes) > 1:
        return []
    old, first = changes[0].meter, max(1, int(tempo_map.beats().bar[0]))
    meter = Meter(beats * old.groups[0], old.denominator)
    if beats == 2 * old.beats:  # two bars are one: those of which the first sounds more like its beginning
        odd, even = (candidate.evidence[downs[k::2]].mean() for k in (0, 1))
        opening = int(tempo_map.beats().bar[downs[0 if odd >= even else 1]])
        first = opening if opening >= first else opening + 2
    return [Remedy(f"bars of {meter}", SetMeter(first, meter.felt))]
