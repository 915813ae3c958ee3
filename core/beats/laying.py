"""From a chain of beats to a map: bars laid over it, beats put on attacks, its ends where the music ends."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from core.beats import bars, ends, refine
from core.beats.hypothesis import TempoHypothesis
from core.beats.scene import Scene
from core.listening.spectrum import FRAME_RATE
from core.tempomap import Meter, MeterChange, Meters, TempoMap

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@dataclass(frozen=True)
class Laid:
    """A map with what led to it: ``support`` of each beat's attack, the ``count`` and ``division`` behind it,
    and each beat's downbeat ``evidence``."""

    map: TempoMap
    support: Floats
    count: TempoHypothesis
    division: bars.Bars
    evidence: Floats


def lay(scene: Scene, count: TempoHypothesis, meter: Meter | None = None, pins: Floats | None = None) -> Laid:
    """The map of one way to count. ``meter`` fixes the main meter; ``pins`` (seconds) stay where they are."""
    count = replace(count, frames=_ends(scene, count.frames))
    evidence = bars.downbeat_evidence(scene.players, scene.mix, count.frames, scene.ear)
    seconds, support = place(scene, count.frames, pins)
    return _barred(scene, count, meter, pins, evidence, seconds, support)


def in_meter(scene: Scene, laid: Laid, meter: Meter) -> Laid:
    """The same beats in bars of another main meter."""
    return _barred(scene, laid.count, meter, None, laid.evidence, laid.map.seconds, laid.support)


def _barred(
    scene: Scene,
    count: TempoHypothesis,
    meter: Meter | None,
    pins: Floats | None,
    evidence: Floats,
    seconds: Floats,
    support: Floats,
) -> Laid:
    likeness = bars.repetition(scene.mix, count.frames)
    division = bars.divide(evidence, likeness, meter.beats if meter else None, count.ternary)
    first = _first_bar(scene.mix, count.frames, division.downbeats)
    meters = meters_of(np.diff(division.downbeats[first:]), meter or _meter_of(division.beats, count.ternary))
    tempo_map = TempoMap.from_beats(seconds, -int(division.downbeats[first]), meters)
    if pins is not None and len(pins):
        tempo_map = tempo_map.with_points(tempo_map.seconds, tempo_map.quarters, np.isin(seconds, pins))
    return Laid(tempo_map, support, count, division, evidence)


def place(scene: Scene, frames: Ints, pins: Floats | None = None) -> tuple[Floats, Floats]:
    """Seconds and support of decoded beats; a beat within a frame and a half of a pin is the pin."""
    placed = refine.to_attacks(frames / FRAME_RATE, scene.players, scene.ranks, scene.curve, scene.ear[:, 0])
    # lateness shows better at placed beats
    placed = refine.to_attacks(placed.seconds, scene.players, scene.ranks, scene.curve, scene.ear[:, 0])
    seconds, support = placed.seconds.copy(), placed.support.copy()
    for pin in [] if pins is None else pins:
        k = int(np.argmin(np.abs(frames / FRAME_RATE - pin)))
        if abs(frames[k] / FRAME_RATE - pin) <= 1.5 / FRAME_RATE:
            seconds[k], support[k] = pin, 1.0
    return np.maximum.accumulate(seconds + 1e-9 * np.arange(len(seconds))) if (
        np.diff(seconds) <= 0
    ).any() else seconds, support


def _ends(scene: Scene, frames: Ints) -> Ints:
    """Without the beats before the music and after it.

    Some only extrapolate: two of any four must sound. Others count along with applause or talk, where as much
    happens between the beats as on them, unlike in the rest of the take.
    """
    curve = scene.curve
    frames = _without_noise(curve, frames)
    wide = np.max([np.roll(curve, k) for k in (-3, -2, -1, 0, 1, 2, 3)], axis=0)
    sounds = wide[np.clip(frames, 0, len(curve) - 1)] > 0.2
    four = np.convolve(sounds, np.ones(4), mode="full")
    opens = np.flatnonzero(sounds & (four[3:] >= 2))
    closes = np.flatnonzero(sounds & (four[: len(frames)] >= 2))
    if not len(opens) or not len(closes) or closes[-1] - opens[0] < 7:
        return frames
    return frames[ends.widened(frames, slice(int(opens[0]), int(closes[-1]) + 1), scene.players, curve)]


def _without_noise(curve: Floats, frames: Ints, span: int = 6) -> Ints:
    """Cut ends where six beats stand out from what is between them by less than a third of the usual."""
    if len(frames) < 4 * span:
        return frames
    wide = np.maximum(curve, np.maximum(np.roll(curve, 1), np.roll(curve, -1)))
    sums = np.concatenate([[0.0], np.cumsum(curve)])
    k = np.arange(len(frames) - span)
    on = np.convolve(wide[frames], np.ones(span) / span, mode="valid")[: len(k)]
    overall = (sums[frames[k + span]] - sums[frames[k]]) / (frames[k + span] - frames[k])
    contrast = on / np.maximum(overall, 1e-6)
    clear = np.flatnonzero(contrast >= min(2.6, float(np.median(contrast)) / 3))
    first = 0 if clear[0] == 0 else int(clear[0]) + 2
    last = len(frames) if clear[-1] == len(k) - 1 else int(clear[-1]) + span - 2
    return frames[first:last]


def _meter_of(beats: int, ternary: bool) -> Meter:
    return Meter(beats * 3, 8) if ternary and beats in (2, 3, 4) else Meter(beats, 4)


def meters_of(lengths: Ints, main: Meter) -> Meters:
    """The meter of each bar from its number of felt beats, bar 1 first; then the main meter."""

    def meter(beats: int) -> Meter:
        if beats == main.beats:
            return main
        return Meter(beats * main.groups[0], main.denominator, (main.groups[0],) * beats)

    changes = [MeterChange(i + 1, meter(int(n))) for i, n in enumerate(lengths)]
    return Meters((*changes, MeterChange(len(changes) + 1, main)))


def _first_bar(mix: bars.Mix, frames: Ints, downbeats: Ints) -> int:
    """Which of the downbeats opens bar 1: the first from which on the band plays, past a bare count-in."""
    level = mix.energy.sum(axis=1)
    per_bar = [
        level[frames[a] : frames[min(b, len(frames) - 1)]].mean()
        for a, b in zip(downbeats, [*downbeats[1:], len(frames) - 1], strict=True)
        if frames[min(b, len(frames) - 1)] > frames[a]
    ]
    playing = np.array(per_bar) > 0.45 * np.median(per_bar)
    return int(np.argmax(playing)) if playing.any() else 0
