"""The click: where each one sounds and how, to the sample."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.tempomap import TempoMap

#: Kinds of clicks, as indices into :func:`sounds`.
DOWNBEAT, BEAT = 0, 1


@dataclass(frozen=True)
class Clicks:
    """Parallel int64 arrays: the sample at which each click starts, and its kind."""

    samples: NDArray[np.int64]
    kinds: NDArray[np.int64]


def sounds(rate: int) -> list[NDArray[np.float32]]:
    """The click sounds, downbeat first: short woody strokes whose first sample already sounds."""

    def stroke(pitch: float, level: float) -> NDArray[np.float32]:
        t = np.arange(round(0.045 * rate)) / rate
        body = np.cos(2 * np.pi * pitch * t) * np.exp(-t / 0.008)
        knock = 0.5 * np.cos(2 * np.pi * 2.76 * pitch * t) * np.exp(-t / 0.003)
        fade = np.minimum(1, (t[-1] - t) / 0.005)
        return (level / 1.5 * (body + knock) * fade).astype(np.float32)

    return [stroke(1568.0, 0.9), stroke(1046.5, 0.6)]


def clicks(tempo_map: TempoMap, rate: int, seconds: float) -> Clicks:
    """A click on every felt beat of the mapped music, at ``round(time * rate)``, within ``seconds``."""
    beats = tempo_map.beats()
    samples = np.round(beats.seconds * rate).astype(np.int64)
    inside = (samples >= 0) & (beats.seconds < seconds)
    return Clicks(samples[inside], np.where(beats.beat == 1, DOWNBEAT, BEAT)[inside])


def count_in(tempo_map: TempoMap, rate: int, at: float, bars: int = 1) -> tuple[Clicks, int]:
    """``bars`` bars of clicks that lead to the time ``at``, in the tempo found there.

    Samples count from the start of the count-in. Returns them with the count-in's length in samples;
    the take starts playing at ``at`` when it has passed. Starting on a beat inside a bar, the counts
    are those that lead up to that beat.
    """
    index = float(tempo_map.beat_index_at(at))
    ahead = np.ceil(index - 1e-6)  # the counts stand as if the next beats had come before
    here = float(tempo_map.seconds_of_beat(ahead + 1) - tempo_map.seconds_of_beat(ahead))
    bar = int(tempo_map.meters.bars_at(tempo_map.meters.quarters_of_beat(ahead)))
    meter = tempo_map.meters.meter_at(bar)
    count = bars * meter.beats
    opening = round(float(tempo_map.meters.beat_of_quarters(tempo_map.meters.bar_quarters(bar))))
    lead = (ahead - index) * here  # what plays of the take before its next beat
    times = np.arange(count) * here
    length = round((count * here - lead) * rate)
    kinds = np.where((np.arange(count) - count + int(ahead) - opening) % meter.beats == 0, DOWNBEAT, BEAT)
    samples = np.round(times * rate).astype(np.int64)
    keep = samples < length
    return Clicks(samples[keep], kinds[keep]), length


def render(found: Clicks, rate: int, frames: int) -> NDArray[np.float32]:
    """The click track as ``frames`` mono samples; each sound starts exactly at its sample."""
    out = np.zeros(frames, dtype=np.float32)
    kit = sounds(rate)
    for at, kind in zip(found.samples.tolist(), found.kinds.tolist(), strict=True):
        sound = kit[kind][: max(0, frames - at)]
        out[at : at + len(sound)] += sound
    return np.clip(out, -1, 1)
