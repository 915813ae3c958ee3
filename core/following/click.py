"""The click: where each one sounds and how, to the sample."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from core.errors import InputError
from core.tempomap import TempoMap

#: Kinds of clicks, as indices into :func:`sounds`.
DOWNBEAT, BEAT, BETWEEN = 0, 1, 2
#: The sounds there are: struck wood, a bell, a dry tick.
SOUNDS = ("wood", "bell", "tick")
#: What is clicked.
FIGURES = ("downbeats", "beats", "eighths", "triplets", "sixteenths", "swung")


@dataclass(frozen=True)
class Style:
    """``sound``: one of :data:`SOUNDS`; ``figure``: one of :data:`FIGURES`. Raises :class:`core.errors.InputError`."""

    sound: str = "wood"
    figure: str = "beats"

    def __post_init__(self) -> None:
        if self.sound not in SOUNDS or self.figure not in FIGURES:
            raise InputError("There is no such click.")


@dataclass(frozen=True)
class Clicks:
    """Parallel int64 arrays: the sample at which each click starts, and its kind."""

    samples: NDArray[np.int64]
    kinds: NDArray[np.int64]


def sounds(rate: int, name: str = "wood") -> list[NDArray[np.float32]]:
    """The sounds of downbeat, beat and what lies between; the first sample of each already sounds."""
    stroke = {"wood": _wood, "bell": _bell, "tick": _tick}[name]
    return [stroke(rate, 1568.0, 0.9), stroke(rate, 1046.5, 0.6), stroke(rate, 1318.5, 0.25)]


def _wood(rate: int, pitch: float, level: float) -> NDArray[np.float32]:
    t = np.arange(round(0.045 * rate)) / rate
    body = np.cos(2 * np.pi * pitch * t) * np.exp(-t / 0.008)
    knock = 0.5 * np.cos(2 * np.pi * 2.76 * pitch * t) * np.exp(-t / 0.003)
    return _faded(level / 1.5 * (body + knock), t)


def _bell(rate: int, pitch: float, level: float) -> NDArray[np.float32]:
    """Partials of a small bell: 1, 2.0, 3.01, 5.4."""
    t = np.arange(round(0.18 * rate)) / rate
    partials = ((1.0, 1.0, 0.06), (2.0, 0.5, 0.04), (3.01, 0.3, 0.025), (5.4, 0.2, 0.01))
    tone = sum(a * np.cos(2 * np.pi * r * pitch * t) * np.exp(-t / d) for r, a, d in partials)
    return _faded(level / 2 * np.asarray(tone), t)


def _tick(rate: int, pitch: float, level: float) -> NDArray[np.float32]:
    """A dry tick, over in 6 ms, that is heard through dense music."""
    t = np.arange(round(0.012 * rate)) / rate
    return _faded(level * np.cos(2 * np.pi * 2.2 * pitch * t) * np.exp(-t / 0.0018), t)


def _faded(x: NDArray[np.float64], t: NDArray[np.float64]) -> NDArray[np.float32]:
    return np.asarray((x * np.minimum(1, (t[-1] - t) / 0.005)).astype(np.float32))


#: Seconds: the click of a beat less than this before the recording (a loop cut on its first beat) begins with it.
_MOMENT = 0.02


def clicks(tempo_map: TempoMap, rate: int, seconds: float, style: Style = Style()) -> Clicks:
    """Clicks on the mapped music at ``round(time * rate)``, within ``seconds``.

    Accents follow the meter's felt groups; eighths and sixteenths are those of the notes (six eighths in a bar
    of 6/8, seven in 7/8), triplets divide each felt beat in three; swung clicks stand at two thirds of a beat.
    """
    beats = tempo_map.beats()
    kinds = np.where(beats.beat == 1, DOWNBEAT, BEAT)
    quarters = beats.quarters
    if style.figure == "downbeats":
        quarters, kinds = quarters[kinds == DOWNBEAT], kinds[kinds == DOWNBEAT]
    elif style.figure != "beats":
        between = np.concatenate([_between(q, r, style.figure) for q, r in pairwise(quarters)] or [np.zeros(0)])
        quarters = np.concatenate([quarters, between])
        kinds = np.concatenate([kinds, np.full(len(between), BETWEEN)])
        order = np.argsort(quarters, kind="stable")
        quarters, kinds = quarters[order], kinds[order]
    times = tempo_map.seconds_at(quarters)
    samples = np.round(times * rate).astype(np.int64)
    inside = (times > -_MOMENT) & (times < seconds)
    return Clicks(np.maximum(samples[inside], 0), kinds[inside])


def _between(start: float, end: float, figure: str) -> NDArray[np.float64]:
    """Quarters of the clicks between two felt beats."""
    length = end - start
    if figure == "triplets":
        return np.array([start + length / 3, start + 2 * length / 3])
    ternary = abs(length - 1.5) < 1e-6
    if figure == "swung" and not ternary:
        return np.array([start + length * 2 / 3])
    note = 0.25 if figure == "sixteenths" else 0.5
    return np.asarray(start + note * np.arange(1, round(length / note)), dtype=np.float64)


def count_in(tempo_map: TempoMap, rate: int, at: float, bars: int = 1) -> tuple[Clicks, int]:
    """``bars`` bars of clicks that lead to the time ``at``, in the tempo found there.

    Samples count from the start of the count-in. Returns them with the count-in's length in samples;
    the take starts playing at ``at`` when it has passed. Starting on a beat inside a bar, the counts
    are those that lead up to that beat.
    """
    index = float(tempo_map.beat_index_at(at))
    ahead = np.ceil(index - 1e-6)  # the counts are spaced as the next beats are
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


def render(found: Clicks, rate: int, frames: int, sound: str = "wood", start: int = 0) -> NDArray[np.float32]:
    """``frames`` mono samples of the click track from sample ``start`` on; each sound starts exactly at its sample.

    A click that rings into the range from before it is left out.
    """
    out = np.zeros(frames, dtype=np.float32)
    kit = sounds(rate, sound)
    for at, kind in zip((found.samples - start).tolist(), found.kinds.tolist(), strict=True):
        if 0 <= at < frames:
            part = kit[kind][: frames - at]
            out[at : at + len(part)] += part
    return np.clip(out, -1, 1)
