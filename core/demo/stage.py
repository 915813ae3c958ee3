"""From parts in musical position to tracks of samples: a truth map, players with human timing, a room."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from core.instruments.voices import Voice
from core.notes import Note
from core.tempomap import TempoMap


@dataclass(frozen=True)
class Stroke:
    """A note in musical position: ``quarter`` from bar 1, ``length`` in quarters, level 0 to 1."""

    quarter: float
    pitch: int
    length: float = 0.5
    level: float = 0.8


@dataclass(frozen=True)
class Performer:
    """``lean`` and ``jitter`` in seconds: how late on average, and how much it varies."""

    name: str
    voice: Voice
    strokes: tuple[Stroke, ...]
    lean: float = 0.0
    jitter: float = 0.0


@dataclass(frozen=True)
class Performance:
    """A made-up take with its truth. ``tracks``: float32 ``(frames, channels)`` by file name."""

    title: str
    rate: int
    truth: TempoMap
    tracks: dict[str, NDArray[np.float32]] = field(default_factory=dict)
    notes: list[Note] = field(default_factory=list)

    @property
    def first_beat(self) -> float:
        """The second of bar 1, from which the truth counts for scoring."""
        return float(self.truth.bar_seconds(1))


def played(performer: Performer, truth: TempoMap, rng: np.random.Generator) -> list[Note]:
    """The performer's notes in seconds, with lean and jitter (bounded at 2.5 spreads)."""
    out = []
    for s in performer.strokes:
        off = performer.lean + performer.jitter * float(np.clip(rng.standard_normal(), -2.5, 2.5))
        start = float(truth.seconds_at(s.quarter)) + off
        end = float(truth.seconds_at(s.quarter + s.length)) + off
        level = float(np.clip(s.level * (1 + 0.08 * rng.standard_normal()), 0.05, 1))
        out.append(Note(max(0.0, start), max(start + 0.02, end), s.pitch, max(1, round(127 * level))))
    return out


def room(
    sources: list[tuple[NDArray[np.float64], float]],
    rate: int,
    late: tuple[float, float],
    rng: np.random.Generator,
) -> NDArray[np.float64]:
    """A distant stereo pair: all sources at their levels, later on each side by ``late`` seconds, with a short
    reverb."""
    from scipy.signal import fftconvolve  # takes most of a second to import: only who needs it pays

    tail = np.arange(round(0.7 * rate)) / rate
    dry = np.sum([level * x for x, level in sources], axis=0)
    sides = []
    for delay in late:
        response = 0.05 * rng.standard_normal(len(tail)) * np.exp(-tail / 0.14)
        response[0] = 1.0
        shift = round(delay * rate)
        wet = fftconvolve(dry, response)[: len(dry)]
        sides.append(np.concatenate([np.zeros(shift), wet])[: len(dry)])
    return np.stack(sides, axis=1)


def to_track(x: NDArray[np.float64], peak: float = 0.7, hiss: float = 2e-4, seed: int = 0) -> NDArray[np.float32]:
    """Level a signal to ``peak`` and add a microphone's noise; ``(frames, channels)``."""
    x = x[:, None] if x.ndim == 1 else x
    top = np.abs(x).max() or 1.0
    noise = np.random.default_rng(seed).standard_normal(x.shape)
    return (x * (peak / top) + hiss * noise).astype(np.float32)
