"""Finding beats and bars, start to end: context, tempo hypotheses, the map of the best one, confidence, doubts."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from core.listening.guides import GuideRank, no_guide
from core.listening.rates import FRAME_RATE
from core.listening.track import AnalysedTrack
from core.tempomap import Meter, MeterChange, Meters, TempoMap
from core.tempomap.pulses import is_uneven, pulse_of
from core.tracking import uneven_meters
from core.tracking.alternatives import alternatives
from core.tracking.candidate import assemble, place_beats
from core.tracking.confidence import certain_range, confidence_features, confidence_of
from core.tracking.context import AnalysisContext, NoBeats, build_context
from core.tracking.decoder import NEVER, posterior
from core.tracking.doubts import find_doubts, to_felt_beats
from core.tracking.ends import widened
from core.tracking.exact_tempo import ExactTempo, aligned, find_exact_tempo, straightened
from core.tracking.hypothesis import TempoHypothesis, compared, rate, score_hypothesis
from core.tracking.joining import joined_results
from core.tracking.music import certainly_none, music_beats
from core.tracking.off_beats import keep_phase
from core.tracking.parameters import FEWEST_BEATS, TEMPO_DRIFT, USUAL_RANGE
from core.tracking.pattern_margin import pattern_margin
from core.tracking.pieces import find_pieces, music_in, of_piece
from core.tracking.results import Progress, Stretch, TrackingOptions, TrackingResult, no_progress
from core.tracking.tempo_candidates import tempo_hypotheses
from core.tracking.tempo_freedom import decode_freely

Floats = NDArray[np.float64]

#: Hypotheses beside the best one that are offered as other readings.
_RIVALS = 3
#: Pulses of an uneven meter may lie this far from the tempo that was found for them, as a factor either way.
_PULSE_RANGE = 1.25
#: Chains whose tempos differ by less (natural logarithm) are the same exact tempo.
_SAME_TEMPO = 0.03


def track_beats(
    tracks: Sequence[AnalysedTrack], options: TrackingOptions = TrackingOptions(), progress: Progress = no_progress
) -> TrackingResult:
    """Find beats and bars. Raises :class:`core.tracking.context.NoBeats`."""
    progress("Choosing the guide", 0.0)
    context = build_context(tracks, options.guides)
    ranked = hypotheses(context, options, progress)
    found = _piece_by_piece(context, ranked[0], options, progress) or _found(context, options, progress, ranked)
    progress("Done", 1.0)
    return replace(found, guides=_all_ranks(context, tracks))


def _piece_by_piece(
    context: AnalysisContext, hypothesis: TempoHypothesis, options: TrackingOptions, progress: Progress
) -> TrackingResult | None:
    """What is found in each of several pieces by itself, joined; None where the recording holds one piece only."""
    stretches = _stretches(context, hypothesis, options)
    if len(stretches) < 2:
        return None
    found: dict[Stretch, TrackingResult] = {}
    for k, stretch in enumerate(stretches):

        def told(stage: str, share: float, k: int = k) -> None:
            progress(f"{stage} (piece {k + 1} of {len(stretches)})", 0.6 + 0.3 * (k + share) / len(stretches))

        with suppress(NoBeats):  # too short to count along by itself: counted through
            found[stretch] = _found(context.alone(*stretch), of_piece(options, stretch), told)
    return joined_results(context, list(found.values()), list(found), options) if len(found) > 1 else None


def _stretches(context: AnalysisContext, hypothesis: TempoHypothesis, options: TrackingOptions) -> list[Stretch]:
    """Where the pieces in a recording lie, soft ones beside loud ones too."""
    found, rest = find_pieces(context, hypothesis.frames, options)
    for stretch in rest:
        with suppress(NoBeats):
            alone = context.alone(*stretch)
            chain = hypotheses(alone, of_piece(options, stretch))[0].frames
            found += [piece] if (piece := music_in(alone, stretch, chain)) else []
    return sorted(found)


def _found(
    context: AnalysisContext,
    options: TrackingOptions,
    progress: Progress,
    ranked: list[TempoHypothesis] | None = None,
) -> TrackingResult:
    """What is found in one piece of music. ``ranked``: its tempo hypotheses, where they are known."""
    if options.meter and is_uneven(options.meter):
        share = options.meter.numerator / options.meter.beats
        low, high = uneven_meters.FELT if options.tempo == USUAL_RANGE else options.tempo
        return _in_uneven_meter(context, options, options.meter, (low * share, high * share), progress)
    if options.meter is None and (found := uneven_meters.bar_of_pulses(context, options.tempo[1])):
        count, pace = found
        pulses = pace / _PULSE_RANGE, pace * _PULSE_RANGE
        return _in_uneven_meter(context, options, Meter(count, 8), pulses, progress)
    if options.meter and options.meter.beats == options.meter.numerator and options.meter.denominator > 4:
        context, ranked = context.by_attacks(), None
    pins = options.fixed
    ranked = ranked or hypotheses(context, options, progress)
    music_alone = _without_surroundings(context, ranked[0], options)
    if music_alone != options:
        with suppress(NoBeats):  # too short to count along by itself: then the whole take is
            ranked = hypotheses(context, music_alone, lambda *_: progress("Comparing tempos in the music alone", 0.6))
            options = music_alone
    curve, envelope = _curve(context, options), _between(context.onset_envelope, options)
    progress("Finding the bars, placing beats on attacks", 0.6)
    with ThreadPoolExecutor(1) as pool:  # the other hypotheses beside the best one
        pending = pool.map(lambda h: assemble(context, h, options.meter), ranked[1 : 1 + _RIVALS])
        posteriors = posterior(curve, ranked[0].frames)
        inside = widened(ranked[0].frames, certain_range(posteriors), context.sound, envelope)
        music = music_beats(ranked[0].frames, context.beat_activation[:, 0], envelope, context.sound)
        music = music[_between(np.ones(len(envelope)), options)[music] > 0]
        certain = replace(ranked[0], frames=ranked[0].frames[inside])
        best = assemble(context, certain, options.meter, pins, music)
        rivals = list(pending)
    progress("Calculating confidence", 0.7)
    kept = np.isin(ranked[0].frames, best.hypothesis.frames)
    exact = best.hypothesis.exact_tempo
    tempo_map = straightened(best.map, exact) if exact else best.map
    activation, seconds = context.beat_activation[:, 0], tempo_map.beats().seconds
    patterns = pattern_margin(context.bands, np.round(seconds * FRAME_RATE))
    features = confidence_features(posteriors[kept], best.support, activation, seconds, ranked[0], ranked[1:], patterns)
    confidence = confidence_of(features)
    progress("Looking for other readings", 0.8)
    others = alternatives(context, best, rivals, options.meter is None)
    doubts = find_doubts(context, best, tempo_map, confidence, ranked)
    return TrackingResult(tempo_map, confidence, context.ranks, doubts, others, features, ranked, best)


def _all_ranks(context: AnalysisContext, tracks: Sequence[AnalysedTrack]) -> list[GuideRank]:
    """Ranks of all tracks, in their order; those without attacks have weight 0."""
    by_name = {r.name: r for r in context.ranks}
    return [by_name.get(t.name) or no_guide(t.name) for t in tracks]


def _in_uneven_meter(
    context: AnalysisContext,
    options: TrackingOptions,
    meter: Meter,
    pace: tuple[float, float],
    progress: Progress,
) -> TrackingResult:
    """A meter of unequal felt beats, like 2+2+3/8: its even pulse is found, then felt in the meter's groups, or where
    no meter was asked for, in those with the strongest attacks. ``pace``: range of the pulse, a minute."""
    pulses = pulse_of(meter)
    # what is known of felt beats says nothing of the pulses between them
    found = _found(context, replace(options, meter=pulses, tempo=pace, known=(), refused=()), progress)
    if options.meter is None:
        beats = found.map.beats()
        frames = np.round(beats.seconds * FRAME_RATE).astype(np.int64)
        meter = uneven_meters.grouped(context, frames, np.flatnonzero(beats.beat == 1), pulses.beats)

    def felt(tempo_map: TempoMap) -> TempoMap:
        changes = (MeterChange(c.bar, meter if c.meter == pulses else c.meter) for c in tempo_map.meters.changes)
        return replace(tempo_map, meters=Meters(tuple(changes)))

    tempo_map = felt(found.map)
    at = np.searchsorted(found.map.beats().quarters, tempo_map.beats().quarters - 1e-6)
    at = np.minimum(at, len(found.confidence) - 1)
    return replace(
        found,
        map=tempo_map,
        confidence=found.confidence[at],
        doubts=to_felt_beats(found.doubts, found.map, tempo_map),
        alternatives=[replace(a, map=felt(a.map)) for a in found.alternatives],
        features=found.features[at],
    )


def hypotheses(
    context: AnalysisContext, options: TrackingOptions, progress: Progress = no_progress
) -> list[TempoHypothesis]:
    """Tempo hypotheses of the take, the highest score first. Raises :class:`core.tracking.context.NoBeats`."""
    pins = np.round(options.fixed * FRAME_RATE).astype(np.int64)
    curve, envelope = _curve(context, options), _between(context.onset_envelope, options)
    progress("Comparing tempos", 0.1)
    found = tempo_hypotheses(
        envelope,
        options.tempo,
        progress=lambda x: progress("Comparing tempos", 0.1 + 0.5 * x),
        pins=pins,
        activation=context.beat_activation[:, 0],
        decoding_curve=curve,
        bands=context.bands,
    )
    if not found:
        raise NoBeats("No beats found: nothing repeats long enough to count along. Try another tempo range.")
    found = compared([_as_free_as_played(context, found[0], options), *found[1:]])
    # a pin means that this is no machine, unless the engineer says so too
    if options.exact_tempo or (options.exact_tempo is None and not len(pins)):
        return _exact(context, found, options)
    return found


def _without_surroundings(
    context: AnalysisContext, hypothesis: TempoHypothesis, options: TrackingOptions
) -> TrackingOptions:
    """The options with the music's ends where talk, applause or silence is around it, as those would have a say in its
    tempo; ends that the engineer gave stay, and all beats that are fixed lie between them."""
    frames = hypothesis.frames
    before, after = certainly_none(
        frames, context.beat_activation[:, 0], _between(context.onset_envelope, options), context.sound
    )
    seconds, fixed = frames / FRAME_RATE, options.fixed
    start, end = options.start, options.end
    if start is None and before:
        start = float(min([seconds[before - 1 : before + 1].mean(), *fixed[:1]]))
    if end is None and after:
        end = float(max([seconds[-after - 1 : len(frames) - after + 1].mean(), *fixed[-1:]]))
    return replace(options, start=start, end=end)


def _as_free_as_played(
    context: AnalysisContext, hypothesis: TempoHypothesis, options: TrackingOptions
) -> TempoHypothesis:
    """The hypothesis with its beats going on through off-beats; where there are none to go through, with its beats
    found again where the tempo moves freely."""
    pins, curve = np.round(options.fixed * FRAME_RATE).astype(np.int64), _curve(context, options)
    frames = keep_phase(curve, hypothesis.frames, pins)
    if not np.array_equal(frames, hypothesis.frames):
        return replace(hypothesis, frames=frames)
    bpm = hypothesis.bpm
    frames, free = decode_freely(curve, bpm / TEMPO_DRIFT, bpm * TEMPO_DRIFT, bpm, pins=pins)
    if len(frames) < FEWEST_BEATS or not free.any():
        return hypothesis
    envelope, activation = _between(context.onset_envelope, options), context.beat_activation[:, 0]
    return score_hypothesis(envelope, frames, *options.tempo, activation, context.bands)


def _exact(context: AnalysisContext, found: list[TempoHypothesis], options: TrackingOptions) -> list[TempoHypothesis]:
    """The hypotheses as exact tempos where the take has one (or is said to), the highest score first; else as they
    are."""

    curve = _curve(context, options)

    def exact_tempo(hypothesis: TempoHypothesis) -> ExactTempo | None:
        chain = hypothesis.frames / FRAME_RATE
        return find_exact_tempo(context.tracks, context.ranks, curve, chain)

    first = exact_tempo(found[0])
    if first is None or not (options.exact_tempo or first.is_exact):
        return found
    pairs = [(found[0], first), *((h, exact_tempo(h)) for h in found[1:])]
    out: list[TempoHypothesis] = []
    for hypothesis, exact in pairs:
        if exact is not None and (options.exact_tempo or exact.is_exact):
            exact = aligned(exact, place_beats(context, hypothesis.frames)[0])
            if options.exact_tempo:  # throughout, as the engineer says so
                exact = replace(exact, first=-np.inf, last=np.inf)
            frames = np.round(exact.along(hypothesis.frames / FRAME_RATE) * FRAME_RATE).astype(np.int64)
            frames = frames[(frames >= 0) & (frames < len(context.onset_envelope))]
            again = rate(context, frames, options.tempo)
            if all(abs(np.log(again.bpm / other.bpm)) > _SAME_TEMPO for other in out):
                out.append(replace(again, exact_tempo=exact))
    return sorted(compared(out), key=lambda h: -h.score)


def _curve(context: AnalysisContext, options: TrackingOptions) -> Floats:
    """What beats are decoded on, with nothing to gain where beats were refused, and no beat between those that are
    known."""
    out = _between(context.decoding_curve, options)
    for start, end in options.refused:
        out[max(0, round(start * FRAME_RATE)) : round(end * FRAME_RATE) + 1] = 0.0
    for beats in options.known:
        frames = np.round(np.asarray(beats) * FRAME_RATE).astype(np.int64)
        for before, after in pairwise(frames.tolist()):
            out[before + 1 : after] = NEVER
    return out


def _between(curve: Floats, options: TrackingOptions) -> Floats:
    """The curve with nothing to gain outside the music's ends, nor where there are no beats."""
    out = curve.copy()
    for start, end in options.no_beats:
        out[max(0, round(start * FRAME_RATE)) : round(end * FRAME_RATE)] = 0.0
    if options.start is not None:
        out[: max(0, round(options.start * FRAME_RATE) - 2)] = -1.0
    if options.end is not None:
        out[round(options.end * FRAME_RATE) + 3 :] = -1.0
    return out
