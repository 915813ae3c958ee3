"""From a tempo hypothesis to a map: its ends where the music ends, its beats on attacks, its bars."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from core.listening.rates import FRAME_RATE
from core.tempomap import Meter, MeterChange, Meters, TempoMap
from core.tracking import bars, ends, placement
from core.tracking.context import AnalysisContext
from core.tracking.decoder import posterior
from core.tracking.downbeats import SummedEvidence, downbeat_evidence, likeness
from core.tracking.hypothesis import TempoHypothesis
from core.tracking.parameters import FEWEST_BEATS

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


#: Of so many beats in a row, how many have to sound for the music to be there.
_NEAR_BEATS, _OF_THEM = 4, 2
#: Least onset envelope of a beat that sounds.
_SOUNDS = 0.2
#: Beats stand out from what is between them at least by this factor, or by a third of what is usual in the take.
_CONTRAST, _OF_USUAL = 2.6, 1 / 3
#: A bar in which the band plays has at least this share of the median level.
_PLAYING = 0.45
#: How far from a pin a decoded beat may lie to be that pin, in frames.
_AT_PIN = 1.5
#: Chosen on the fitting set (docs/measured.md): the posterior under which a beat may be one too many, or follow one
#: that is missing.
_UNSURE = 0.3


@dataclass(frozen=True)
class MapCandidate:
    """A map with what led to it: ``support`` of each beat's attack (0 to 1), the ``hypothesis`` and ``division`` behind
    it, and each beat's downbeat ``evidence`` (nats)."""

    map: TempoMap
    support: Floats
    hypothesis: TempoHypothesis
    division: bars.BarDivision
    evidence: Floats


def assemble(
    context: AnalysisContext,
    hypothesis: TempoHypothesis,
    meter: Meter | None = None,
    pins: Floats | None = None,
    music: Ints | None = None,
) -> MapCandidate:
    """The map of a hypothesis. ``meter`` fixes the main meter; ``pins`` (seconds) stay where they are; where ``music``
    (:func:`core.tracking.music.music_beats`) goes on far beyond the ends that are found, it is mapped, too."""
    frames = _without_silence(context, hypothesis.frames)
    hypothesis = replace(hypothesis, frames=frames if music is None else ends.reaching(frames, music))
    evidence = downbeat_evidence(context, hypothesis.frames)
    seconds, support = place_beats(context, hypothesis.frames, pins)
    return _barred(context, hypothesis, meter, pins, evidence, seconds, support)


def in_meter(context: AnalysisContext, candidate: MapCandidate, meter: Meter) -> MapCandidate:
    """The same beats in bars of another main meter."""
    return _barred(
        context, candidate.hypothesis, meter, None, candidate.evidence, candidate.map.seconds, candidate.support
    )


def _barred(
    context: AnalysisContext,
    hypothesis: TempoHypothesis,
    meter: Meter | None,
    pins: Floats | None,
    evidence: Floats,
    seconds: Floats,
    support: Floats,
) -> MapCandidate:
    alike = likeness(context.summed, hypothesis.frames)
    unsure = posterior(context.decoding_curve, hypothesis.frames) < _UNSURE
    division = bars.divide(evidence, alike, meter.beats if meter else None, hypothesis.ternary, unsure)
    first = _first_bar(context.summed, hypothesis.frames, division.downbeats)
    last = bars.usual_beats(division.downbeats, division.beats)[-1]  # it has no end
    lengths = np.append(np.diff(division.downbeats[first:]), last)
    meters = meters_of(lengths, meter or _meter_of(division.beats, hypothesis.ternary))
    tempo_map = TempoMap.from_beats(seconds, -int(division.downbeats[first]), meters)
    if pins is not None and len(pins):
        tempo_map = tempo_map.with_points(tempo_map.seconds, tempo_map.quarters, np.isin(seconds, pins))
    return MapCandidate(tempo_map, support, hypothesis, division, evidence)


def place_beats(context: AnalysisContext, frames: Ints, pins: Floats | None = None) -> tuple[Floats, Floats]:
    """Seconds and support of decoded beats; a beat within a frame and a half of a pin is the pin."""
    placed = placement.place_on_attacks(context, frames / FRAME_RATE)
    # how late each track is shows better at placed beats
    placed = placement.place_on_attacks(context, placed.seconds)
    seconds, support = placed.seconds.copy(), placed.support.copy()
    for pin in [] if pins is None else pins:
        k = int(np.argmin(np.abs(frames / FRAME_RATE - pin)))
        if abs(frames[k] / FRAME_RATE - pin) <= _AT_PIN / FRAME_RATE:
            seconds[k], support[k] = pin, 1.0
    return np.maximum.accumulate(seconds + 1e-9 * np.arange(len(seconds))) if (
        np.diff(seconds) <= 0
    ).any() else seconds, support


def _without_silence(context: AnalysisContext, frames: Ints) -> Ints:
    """The beats without those before the music and after it.

    Some only extrapolate: two of any four must sound. Others run on through applause or talk, where as much happens
    between the beats as on them, unlike in the rest of the take.
    """
    onset_envelope = context.onset_envelope
    frames = _without_noise(onset_envelope, frames)
    wide = np.max([np.roll(onset_envelope, k) for k in (-3, -2, -1, 0, 1, 2, 3)], axis=0)
    sounds = wide[np.clip(frames, 0, len(onset_envelope) - 1)] > _SOUNDS
    near = np.convolve(sounds, np.ones(_NEAR_BEATS), mode="full")
    opens = np.flatnonzero(sounds & (near[_NEAR_BEATS - 1 :] >= _OF_THEM))
    closes = np.flatnonzero(sounds & (near[: len(frames)] >= _OF_THEM))
    if not len(opens) or not len(closes) or closes[-1] - opens[0] + 1 < FEWEST_BEATS:
        return frames
    return frames[ends.widened(frames, slice(int(opens[0]), int(closes[-1]) + 1), context.sound, onset_envelope)]


def _without_noise(onset_envelope: Floats, frames: Ints, span: int = 6) -> Ints:
    """Cut ends where six beats stand out from what is between them by less than a third of the usual."""
    if len(frames) < 4 * span:
        return frames
    wide = np.maximum(onset_envelope, np.maximum(np.roll(onset_envelope, 1), np.roll(onset_envelope, -1)))
    sums = np.concatenate([[0.0], np.cumsum(onset_envelope)])
    k = np.arange(len(frames) - span)
    on = np.convolve(wide[frames], np.ones(span) / span, mode="valid")[: len(k)]
    overall = (sums[frames[k + span]] - sums[frames[k]]) / (frames[k + span] - frames[k])
    contrast = on / np.maximum(overall, 1e-6)
    clear = np.flatnonzero(contrast >= min(_CONTRAST, float(np.median(contrast)) * _OF_USUAL))
    first = 0 if clear[0] == 0 else int(clear[0]) + 2
    last = len(frames) if clear[-1] == len(k) - 1 else int(clear[-1]) + span - 2
    return frames[first:last]


def _meter_of(beats: int, ternary: bool) -> Meter:
    return Meter(beats * 3, 8) if ternary and beats in (2, 3, 4) else Meter(beats, 4)


def meters_of(lengths: Ints, main: Meter) -> Meters:
    """The meter of each bar from its number of felt beats, bar 1 first; the last one's goes on."""

    def meter(beats: int) -> Meter:
        if beats == main.beats:
            return main
        return Meter(beats * main.groups[0], main.denominator, (main.groups[0],) * beats)

    return Meters(tuple(MeterChange(i + 1, meter(int(n))) for i, n in enumerate(lengths)))


def _first_bar(summed: SummedEvidence, frames: Ints, downbeats: Ints) -> int:
    """Which of the downbeats opens bar 1: the first from which on the band plays, past a bare count-in."""
    level = summed.energy.sum(axis=1)
    per_bar = [
        level[frames[a] : frames[min(b, len(frames) - 1)]].mean()
        for a, b in zip(downbeats, [*downbeats[1:], len(frames) - 1], strict=True)
        if frames[min(b, len(frames) - 1)] > frames[a]
    ]
    playing = np.array(per_bar) > _PLAYING * np.median(per_bar)
    return int(np.argmax(playing)) if playing.any() else 0
