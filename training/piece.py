"""What a made-up piece is: its time, its harmony, and the notes of its players, in felt beats."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Rng = np.random.Generator

MAJOR, MINOR = (0, 2, 4, 5, 7, 9, 11), (0, 2, 3, 5, 7, 8, 10)


@dataclass(frozen=True)
class Stroke:
    """A note: ``at`` and ``length`` in felt beats from bar 1, MIDI ``pitch``, ``loud`` 0 to 1; ``late``: seconds."""

    at: float
    length: float
    pitch: int
    loud: float
    late: float = 0.0


@dataclass
class Part:
    """What one player plays. ``program``: General MIDI, 0 to 127, or -1 for drums; ``lean``, ``jitter``: seconds."""

    name: str
    program: int
    strokes: list[Stroke] = field(default_factory=list)
    lean: float = 0.0
    jitter: float = 0.005

    def add(self, at: float, length: float, pitch: float, loud: float, late: float = 0.0) -> None:
        self.strokes.append(Stroke(at, length, int(np.clip(pitch, 21, 108)), float(np.clip(loud, 0.05, 1.0)), late))


@dataclass(frozen=True)
class Plan:
    """Bars of ``beats`` felt beats, each divided in two or ``three``, ``swing`` as the place of the second half.

    ``chords``: per bar its chords as (beat, pitch classes, root), in a key ``scale`` of pitch classes.
    ``pushed``: bars whose first beat the rhythm section takes an eighth early.
    ``free``: 0 for a band in time, 1 for a soloist who waits and hurries.
    """

    beats: int
    three: bool
    swing: float
    bars: int
    bpm: float
    free: float
    scale: tuple[int, ...]
    chords: list[list[tuple[float, tuple[int, ...], int]]]
    pushed: frozenset[int]

    @property
    def parts_of_beat(self) -> int:
        return 3 if self.three else 2

    def place(self, at: float) -> float:
        """A position in even felt beats as it is played: second halves swing."""
        if self.three or self.swing == 0.5:
            return at
        whole = np.floor(at)
        share = at - whole
        return float(
            whole + (share * 2 * self.swing if share < 0.5 else self.swing + (share - 0.5) * 2 * (1 - self.swing))
        )

    def opening(self, bar: int) -> float:
        """Where the rhythm section plays the first beat of a bar."""
        return bar * self.beats - (1 / self.parts_of_beat if bar in self.pushed else 0.0)

    def chord_at(self, at: float) -> tuple[tuple[int, ...], int]:
        """Pitch classes and root that sound at a beat."""
        bar = int(np.clip(at // self.beats, 0, self.bars - 1))
        chords = self.chords[bar]
        within = at - bar * self.beats
        _, classes, root = [c for c in chords if c[0] <= within + 1e-6][-1] if within >= 0 else chords[0]
        return classes, root


def plan(rng: Rng, seconds: float, free: float) -> Plan:
    """A frame to write music in: common meters often, rare ones now and then."""
    frames = [(4, False), (3, False), (2, False), (5, False), (7, False), (2, True), (4, True), (3, True)]
    beats, three = frames[rng.choice(len(frames), p=[0.45, 0.19, 0.05, 0.06, 0.03, 0.12, 0.06, 0.04])]
    centre, low, high = (66, 42, 115) if three else (120, 60, 195) if beats == 3 else (108, 58, 185)
    bpm = float(np.clip(centre * np.exp(0.33 * rng.standard_normal()), low, high))
    swing = float(rng.uniform(0.58, 0.69)) if not three and rng.random() < 0.15 else 0.5
    bars = max(8, round(seconds * bpm / 60 / beats))
    minor = rng.random() < 0.45
    key = int(rng.integers(12))
    scale = tuple((key + s) % 12 for s in (MINOR if minor else MAJOR))
    pushes = rng.random() < 0.2
    pushed = frozenset(bar for bar in range(1, bars) if pushes and rng.random() < 0.18)
    return Plan(beats, three, swing, bars, bpm, free, scale, _harmony(rng, scale, beats, bars), pushed)


def _harmony(rng: Rng, scale: tuple[int, ...], beats: int, bars: int) -> list[list[tuple[float, tuple[int, ...], int]]]:
    """A phrase of chords, repeated with small changes, as songs do."""
    phrase = int(rng.choice([2, 4, 4, 4, 8, 8]))
    pace = rng.choice(["bar", "half", "two", "one"], p=[0.55, 0.17, 0.18, 0.10])
    common = np.array([0.3, 0.1, 0.08, 0.2, 0.2, 0.12])

    def phrase_of() -> list[list[tuple[float, int]]]:
        out, degree = [], 0
        for bar in range(phrase):
            starts = [0.0]
            if pace == "half" and beats > 2 and rng.random() < 0.7:
                starts.append(float(beats // 2 if beats % 2 == 0 else rng.choice([beats // 2, beats // 2 + 1])))
            here = []
            for start in starts:
                held = (pace == "two" and bar % 2 and start == 0) or (pace == "one" and bar > 0)
                if not held and (bar or start):
                    odds = common.copy()
                    odds[degree] = 0
                    degree = int(rng.choice(6, p=odds / odds.sum()))
                here.append((start, degree))
            out.append(here)
        return out

    first, second = phrase_of(), phrase_of()
    extra = rng.random() < 0.3
    out = []
    for bar in range(bars):
        source = second if (bar // phrase) % 4 == 2 else first
        out.append([(s, _chord(scale, d, extra), scale[d]) for s, d in source[bar % phrase]])
    return out


def _chord(scale: tuple[int, ...], degree: int, seventh: bool) -> tuple[int, ...]:
    return tuple(scale[(degree + k) % 7] for k in ((0, 2, 4, 6) if seventh else (0, 2, 4)))


def beat_seconds(rng: Rng, p: Plan, before: int, after: int) -> Floats:
    """When each felt beat falls, from ``before`` beats ahead of bar 1 to ``after`` beats behind the last bar."""
    n = before + p.bars * p.beats + after
    drift = rng.uniform(0.004, 0.02) + 0.03 * p.free
    walk = np.zeros(n)
    for k in range(1, n):  # leaves its tempo slowly, comes back slowly
        walk[k] = 0.94 * walk[k - 1] + drift * 0.35 * rng.standard_normal()
    phase = rng.uniform(0, 2 * np.pi)
    walk += rng.uniform(0, 0.04) * np.sin(2 * np.pi * np.arange(n) / (p.beats * rng.uniform(8, 20)) + phase)
    phrase = int(rng.choice([4, 8])) * p.beats
    if p.free > 0.5 and rng.random() < 0.7:  # phrases broaden towards their ends
        depth = rng.uniform(0.05, 0.3)
        ahead = (np.arange(n) - before) % phrase - (phrase - 3)
        walk -= depth * np.clip(ahead / 2, 0, 1)
    elif rng.random() < 0.4:  # a chorus is quicker
        step = rng.uniform(-0.04, 0.06)
        walk += step * (((np.arange(n) - before) // (8 * p.beats)) % 2)
    if rng.random() < 0.35:  # the end slows down
        last = np.arange(n) - (n - after - 2 * p.beats)
        walk -= rng.uniform(0.1, 0.4) * np.clip(last / (2 * p.beats), 0, 1)
    gaps = 60 / p.bpm * np.exp(-walk)
    if p.free > 0.5 and rng.random() < 0.15:  # a fermata
        gaps[int(rng.integers(before + p.beats, n - after))] *= rng.uniform(1.8, 3.5)
    return np.concatenate([[0.0], np.cumsum(gaps)])[:n]
