"""At which speed the take is counted: candidate tempos, each decoded, then compared as a musician would."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from core.beats.decoder import Leash, decode
from core.beats.fusion import periodicity
from core.listening.spectrum import FRAME_RATE

Curve = NDArray[np.float64]
Ints = NDArray[np.int64]

#: The range in which most music is counted, beats a minute (common practice).
USUAL_RANGE = (70.0, 180.0)
#: How far one take may stray from its main tempo, as a factor either way.
STRAY = 1.45


@dataclass(frozen=True)
class Count:
    """One way to count the take: beats as frames, their usual tempo, and how convincing it is.

    ``on``, ``between`` and ``thirds``: mean attack strength on the beats, half-way, and at the thirds.
    """

    frames: Ints
    bpm: float
    score: float
    on: float
    between: float
    thirds: float

    @property
    def ternary(self) -> bool:
        """Whether the beat divides in three rather than two; thirds as strong as beats are beats themselves."""
        return self.thirds > 0.1 and 1.5 * self.between < self.thirds < 0.8 * self.on


def candidates(curve: Curve, low: float, high: float, most: int = 4) -> list[float]:
    """Tempos (beats a minute) at which the curve repeats, strongest first, with their kin in range.

    Kin are half, double, 2:3 and 3:2, the usual mistakes.
    """
    lags = np.arange(int(60 * FRAME_RATE / (high * 1.1)), min(int(60 * FRAME_RATE / (low * 0.9)), 300) + 1)
    ac = periodicity(curve, 601)
    # a beat's interval repeats at its double as well
    strength = ac[lags] + 0.5 * ac[2 * lags]
    strength = strength - 0.15 * np.log2(lags / (60 * FRAME_RATE / 115)) ** 2
    inner = (strength[1:-1] >= strength[:-2]) & (strength[1:-1] >= strength[2:])
    peaks = lags[1:-1][inner]
    peaks = peaks[np.argsort(-strength[1:-1][inner], kind="stable")][:most]
    out: list[float] = []
    for lag in peaks:
        for ratio in (1, 0.5, 2, 2 / 3, 1.5):
            bpm = 60 * FRAME_RATE / lag * ratio
            if low * 0.66 <= bpm <= high * 1.25 and all(abs(np.log(bpm / o)) > 0.06 for o in out):
                out.append(float(bpm))
    return out or [float(np.sqrt(low * high))]


def measure(curve: Curve, frames: Ints, low: float, high: float) -> Count:
    """Rate a chain of beats: strong on the beat, weak between, at a usual tempo, over the whole music."""
    gaps = np.diff(frames)
    bpm = float(60 * FRAME_RATE / np.median(gaps))
    wide = np.maximum(curve, np.maximum(np.roll(curve, 1), np.roll(curve, -1)))

    def mean_at(*shares: float) -> float:
        return float(np.mean([wide[frames[:-1] + np.round(gaps * s).astype(np.int64)].mean() for s in shares]))

    on, between = mean_at(0), mean_at(0.5)
    first, second = mean_at(1 / 3), mean_at(2 / 3)
    active = np.flatnonzero(curve > 0.2)
    music = max(1, active[-1] - active[0]) if len(active) else 1
    coverage = min(1.0, (frames[-1] - frames[0]) / music)
    thirds = (first + second) / 2
    # a swung beat sounds only at its second third: that is still a beat in two
    count = Count(frames, bpm, 0.0, on, between, min(thirds, 2.5 * min(first, second)))
    # a dotted beat lasts longer than the quarters in which tempo ranges are thought
    pace = bpm * 1.5 if count.ternary else bpm
    outside = max(0.0, np.log2(low / pace), np.log2(pace / high))
    usual = 0.12 * np.log2(pace / 115) ** 2 + 2.0 * outside
    # Eighths counted in threes also fill the thirds and leave the half empty; but then the thirds sound about
    # as strong as the beats.
    score = on - between - 0.6 * thirds - usual - 1.5 * (1 - coverage)
    return replace(count, score=float(score))


def counts(
    curve: Curve,
    tempo: tuple[float, float] = USUAL_RANGE,
    leash: Leash = Leash(),
    progress: Callable[[float], None] = lambda _: None,
    pins: Ints | None = None,
) -> list[Count]:
    """Ways to count the take, the most convincing first; empty where there is no beat at all."""
    low, high = tempo
    out: list[Count] = []
    tried = candidates(curve, low, high)
    # two at a time: the compiled decoder leaves the interpreter free; the order of results stays the same
    with ThreadPoolExecutor(2) as pool:
        chains = pool.map(lambda home: decode(curve, home / STRAY, home * STRAY, home, leash, pins)[0], tried)
        decoded = []
        for frames in chains:
            decoded.append(frames)
            progress(len(decoded) / len(tried))
    for frames in decoded:
        if len(frames) < 8:
            continue
        count = measure(curve, frames, low, high)
        if all(abs(np.log(count.bpm / o.bpm)) > 0.03 for o in out):
            out.append(count)
    return sorted(out, key=lambda c: -c.score)
