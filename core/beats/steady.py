"""One exact tempo: a machine, or people who played to one.

The beat's period and phase are looked for on the attacks themselves, not on a numbered chain of beats, which one lost
or added beat would bend: the resultant of all attacks on a circle of one subdivision (the Rayleigh statistic; Mardia
and Jupp, "Directional Statistics", 2000) is largest at the true period, across any hole. Whoever wanders is told by the
phase of the parts: a free player's drifts, also where the whole seems even.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from core.beats.fusion import GuideRank, Player
from core.listening.spectrum import FRAME_RATE
from core.tempomap import TempoMap

Floats = NDArray[np.float64]

#: How far from the period that was found first the true one may lie, as a share.
_AROUND = 0.03
#: Parts of a beat in which attacks are looked for.
_PARTS = (4, 3)
#: Seconds a part of the take that has a phase of its own, and the fewest attacks in it.
_SPAN, _FEWEST = 8.0, 8
#: An even tempo's parts stray less than this from the whole, in seconds: half of them, and nine in ten.
STRAYS = (0.003, 0.008)
#: Attacks agree on their subdivision at least so far (1: all on it, 0: anywhere).
_AGREED = 0.3
#: A take shorter than this may seem even by chance, in beats.
_SHORTEST = 24


@dataclass(frozen=True)
class Grid:
    """Beats at ``start + k * interval`` seconds. ``agreed``: 0 to 1, how far the attacks stand on its subdivisions;
    ``stray`` and ``worst``: by how many seconds half, and nine in ten, of the take's parts stray from it."""

    start: float
    interval: float
    agreed: float
    stray: float
    worst: float

    @property
    def is_even(self) -> bool:
        return self.agreed >= _AGREED and self.stray <= STRAYS[0] and self.worst <= STRAYS[1]

    def beats(self, first: float, last: float) -> Floats:
        """The beats from ``first`` to ``last`` seconds, both give or take a tenth of a beat."""
        k = np.arange(np.ceil((first - self.start) / self.interval - 0.1), (last - self.start) / self.interval + 0.1)
        return np.asarray(self.start + k * self.interval)


def _attacks(players: Sequence[Player], ranks: Sequence[GuideRank]) -> tuple[Floats, Floats]:
    """Times and weights of everybody's attacks, in order of time."""
    times = np.concatenate([p.attacks.seconds for p in players])
    weights = np.concatenate([r.weight * p.attacks.strength for p, r in zip(players, ranks, strict=True)])
    order = np.argsort(times, kind="stable")
    return times[order], weights[order]


def find(
    players: Sequence[Player], ranks: Sequence[GuideRank], pulse: Floats, chain: Floats, around: float = _AROUND
) -> Grid | None:
    """The even grid that fits the take best, near the usual interval of a ``chain`` of beats (seconds); None where
    there is too little to tell. ``pulse``: how likely beats are, 100 frames a second, which tells the beats from their
    subdivisions."""
    times, weights = _attacks(players, ranks)
    inside = (times >= chain[0] - 0.05) & (times <= chain[-1] + 0.05) & (weights > 0)
    times, weights = times[inside], weights[inside]
    if len(chain) < 4 or len(times) < 16:
        return None
    usual = float(np.median(np.diff(chain)))
    best: tuple[float, float, int] | None = None
    for parts in _PARTS:
        interval, agreed = _period(times, weights, usual, parts, around)
        if best is None or agreed > best[1] + 0.1:
            best = interval, agreed, parts
    assert best is not None
    interval, agreed, parts = best
    # twice refined among the attacks that stand near the grid, as others (fills, grace notes) pull it
    start = _phase(times, weights, interval / parts)
    for _ in range(3):
        small = interval / parts
        place = np.round((times - start) / small)
        off = times - start - place * small
        near = np.abs(off) < max(0.004, 2.5 * float(np.median(np.abs(off))))
        if near.sum() < 12 or np.ptp(place[near]) < 8:
            break
        slope, start = np.polyfit(place[near], times[near], 1, w=np.sqrt(weights[near]))
        interval = float(slope) * parts
    small = interval / parts
    stray, worst = _strays(times, weights, start, small)
    start = _on_the_beat(pulse, start, interval, parts, chain)
    return Grid(start, interval, agreed, stray, worst)


def _period(times: Floats, weights: Floats, usual: float, parts: int, around: float) -> tuple[float, float]:
    """The interval near ``usual`` at which the attacks agree best on its subdivision, and how far they do."""
    length = float(np.ptp(times)) or 1.0
    centre = parts / usual
    # steps of an eighth of a turn over the whole take
    frequency = np.arange(centre * (1 - around), centre * (1 + around), 1 / (8 * length))
    agreed = _resultants(times - times[0], weights, frequency[0], 1 / (8 * length), len(frequency)) / weights.sum()
    k = int(np.argmax(agreed))
    return parts / float(frequency[k]), float(agreed[k])


@njit(cache=True, nogil=True)
def _resultants(times: np.ndarray, weights: np.ndarray, lowest: float, step: float, count: int) -> np.ndarray:
    """How long the sum of all ``weights`` is, each turned by its time at a frequency, for ``count`` frequencies from
    ``lowest`` on, ``step`` apart."""
    real, imaginary = np.zeros(count), np.zeros(count)
    for k in range(len(times)):
        now = weights[k] * np.exp(2j * np.pi * lowest * times[k])
        turn = np.exp(2j * np.pi * step * times[k])
        for i in range(count):
            real[i] += now.real
            imaginary[i] += now.imag
            now *= turn
    return np.sqrt(real * real + imaginary * imaginary)


def _phase(times: Floats, weights: Floats, small: float) -> float:
    """Where the grid of subdivisions ``small`` seconds apart stands: between 0 and ``small``."""
    turn = np.angle((weights * np.exp(2j * np.pi * times / small)).sum()) / (2 * np.pi)
    return float(turn % 1.0) * small


def _strays(times: Floats, weights: Floats, start: float, small: float) -> tuple[float, float]:
    """How far half, and nine in ten, of the take's parts lie from the grid, in seconds."""
    turns = weights * np.exp(2j * np.pi * (times - start) / small)
    part = ((times - times[0]) / _SPAN).astype(int)
    off = []
    for k in range(part[-1] + 1):
        own = turns[part == k]
        if len(own) >= _FEWEST:
            off.append(abs(np.angle(own.sum())) / (2 * np.pi) * small)
    return (float(np.median(off)), float(np.percentile(off, 90))) if off else (np.inf, np.inf)


def _on_the_beat(pulse: Floats, start: float, interval: float, parts: int, chain: Floats) -> float:
    """Which of the subdivisions are the beats: those on which beats are likeliest."""
    best, worth = start, -np.inf
    for k in range(parts):
        first = start + k * interval / parts
        beats = np.arange(first + interval * np.ceil((chain[0] - first) / interval - 0.1), chain[-1], interval)
        frames = np.round(beats * FRAME_RATE).astype(int)
        frames = frames[(frames >= 2) & (frames < len(pulse) - 2)]
        if len(frames) and (total := float(pulse[frames[:, None] + np.arange(-2, 3)].max(axis=1).mean())) > worth:
            best, worth = first, total
    return best


def straightened(tempo_map: TempoMap, grid: Grid) -> TempoMap:
    """The map on the grid: its beats are the grid's from the one nearest to its first on. Two points carry it, so the
    tempo is as exact as the whole take allows."""
    first = grid.start + grid.interval * round((float(tempo_map.seconds[0]) - grid.start) / grid.interval)
    count = len(tempo_map.beats()) - 1
    ends = np.array([0, len(tempo_map.seconds) - 1])
    return TempoMap(first + grid.interval * np.array([0, count]), tempo_map.quarters[ends], tempo_map.meters)
