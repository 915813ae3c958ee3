"""One exact tempo: a machine, or people who played to one.

The beat's period and phase are looked for on the attacks themselves, not on a numbered chain of beats, which one lost
or added beat would bend: the resultant of all attacks on a circle of one subdivision (the Rayleigh statistic; Mardia
and Jupp, "Directional Statistics", 2000) is largest at the true period, across any hole. A free player is
told from a machine by the phases of the take's segments: from one to the next they drift, even where the whole seems
even. Attacks of soft instruments stray, too, but as much to one side as to the other. An introduction or an ending may
be played freely: there the beats go at another tempo, and the attacks do not stand on the grid.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from core.listening.guides import GuideRank
from core.listening.rates import FRAME_RATE
from core.listening.track import AnalysedTrack
from core.tempomap import TempoMap
from core.tracking.free_ends import free_ends
from core.tracking.parameters import STEADY

Floats = NDArray[np.float64]

#: How far from the period that was found first the true one may lie, as a share.
_AROUND = 0.03
#: Subdivisions of a beat on which attacks are expected.
_SUBDIVISIONS = (4, 3)
#: A take is cut into this many segments, or more: a segment lasts between these seconds. One with fewer attacks than
#: this has no phase.
_SEGMENTS, _SEGMENT, _FEWEST = 5, (2.0, 4.0), 4
#: Unsteadiness is a mean over this share of the segments, those that differ least: breaks may be free.
_KEPT_SEGMENTS = 0.8
#: A stretch or a beat is off the grid of an exact tempo if it lies more seconds off it than this; how long such a
#: stretch is, in seconds.
OFF_GRID, _STRETCH = 0.008, 8.0
#: The least resultant of all attacks on a subdivision (1: all on it, 0: anywhere).
_LEAST_RESULTANT = 0.3
#: Beats by which the grid may reach beyond the ends of a stretch.
_BEYOND_ENDS = 0.1
#: The grid is moved where its phase differs from that of the placed beats by more seconds than this, and by less
#: than this share of a beat.
_PULLED, _BESIDE = 0.005, 0.1
#: Seconds beyond the chain in which attacks still count.
_BEYOND_CHAIN = 0.05
#: By how much more regular a finer subdivision must be to be taken.
_FINER = 0.1
#: An attack is near the grid within so many seconds, or so many median deviations.
_NEAR_GRID, _NEAR_DEVIATIONS = 0.004, 2.5
#: The least share of beats that has to be on the grid.
_LEAST_ON_GRID = 0.75
#: Fewest attacks near the grid, and fewest of its steps between them, for a refinement.
_FEWEST_INLIERS, _SHORTEST_FIT = 12, 8


@dataclass(frozen=True)
class ExactTempo:
    """Beats at ``start + k * interval`` seconds, from ``first`` to ``last``: an introduction before and an ending after
    may be free. ``resultant``: 0 to 1, how closely the attacks stand on its subdivisions; ``unsteadiness``: how
    far the take's segments lie off the grid, or off the segment before where that is farther, as a share of a
    subdivision; ``off_grid``: first and last seconds of stretches that lie off it."""

    start: float
    interval: float
    resultant: float
    unsteadiness: float
    off_grid: tuple[tuple[float, float], ...] = ()
    first: float = -np.inf
    last: float = np.inf

    @property
    def is_exact(self) -> bool:
        return self.resultant >= _LEAST_RESULTANT and self.unsteadiness <= STEADY

    def beats(self, first: float, last: float) -> Floats:
        """The beats from ``first`` to ``last`` seconds, both give or take a tenth of a beat."""
        k = np.arange(
            np.ceil((first - self.start) / self.interval - _BEYOND_ENDS),
            (last - self.start) / self.interval + _BEYOND_ENDS,
        )
        return np.asarray(self.start + k * self.interval)

    def along(self, chain: Floats) -> Floats:
        """The beats of a chain (seconds), on the exact tempo where that holds."""
        beats = self.beats(max(chain[0], self.first), min(chain[-1], self.last))
        return np.concatenate([chain[chain < self.first], beats, chain[chain > self.last]])


def _attacks(tracks: Sequence[AnalysedTrack], ranks: Sequence[GuideRank]) -> tuple[Floats, Floats]:
    """Times and weights of all tracks' attacks, in order of time."""
    times = np.concatenate([p.attacks.seconds for p in tracks])
    weights = np.concatenate([r.weight * p.attacks.strength for p, r in zip(tracks, ranks, strict=True)])
    order = np.argsort(times, kind="stable")
    return times[order], weights[order]


#: Beats and attacks from which an exact tempo can be told.
_FEWEST_BEATS, _FEWEST_ATTACKS = 4, 16


def find_exact_tempo(
    tracks: Sequence[AnalysedTrack],
    ranks: Sequence[GuideRank],
    decoding_curve: Floats,
    chain: Floats,
    around: float = _AROUND,
) -> ExactTempo | None:
    """The exact tempo that fits the take best, near the usual interval of a ``chain`` of beats (seconds); None where
    there is too little to tell. ``decoding_curve``: 100 frames a second, tells the beats from their
    subdivisions."""
    times, weights = _attacks(tracks, ranks)
    whole = _fitted(times, weights, decoding_curve, chain, around)
    if whole is None:
        return None
    exact, step = whole
    along, strength = _along(times, weights, chain)
    on_grid = np.cos(2 * np.pi * (along - exact.start) / step) / max(exact.resultant, 1e-9)
    before, after = free_ends(chain, exact.start, exact.interval, along, on_grid, strength)
    inside = chain[before : len(chain) - after]
    if len(inside) in (0, len(chain)) or len(inside) < _LEAST_ON_GRID * len(chain):
        return exact
    held = _fitted(times, weights, decoding_curve, inside, around)
    first = float(inside[0]) if before else -np.inf
    last = float(inside[-1]) if after else np.inf
    return replace(held[0], first=first, last=last) if held else exact


def _along(times: Floats, weights: Floats, chain: Floats) -> tuple[Floats, Floats]:
    """The attacks that count along a chain: their times and weights."""
    inside = (times >= chain[0] - _BEYOND_CHAIN) & (times <= chain[-1] + _BEYOND_CHAIN) & (weights > 0)
    return times[inside], weights[inside]


def _fitted(
    times: Floats, weights: Floats, decoding_curve: Floats, chain: Floats, around: float
) -> tuple[ExactTempo, float] | None:
    """The exact tempo of the attacks along a chain, and the seconds of its subdivision."""
    times, weights = _along(times, weights, chain)
    if len(chain) < _FEWEST_BEATS or len(times) < _FEWEST_ATTACKS:
        return None
    usual = float(np.median(np.diff(chain)))
    best: tuple[float, float, int] | None = None
    for subdivisions in _SUBDIVISIONS:
        interval, resultant = _period(times, weights, usual, subdivisions, around)
        if best is None or resultant > best[1] + _FINER:
            best = interval, resultant, subdivisions
    assert best is not None
    interval, resultant, subdivisions = best
    # twice refined among the attacks that stand near the grid, as others (fills, grace notes) pull it
    start = _phase(times, weights, interval / subdivisions)
    for _ in range(3):
        step = interval / subdivisions
        position = np.round((times - start) / step)
        deviations = times - start - position * step
        inliers = np.abs(deviations) < max(_NEAR_GRID, _NEAR_DEVIATIONS * float(np.median(np.abs(deviations))))
        if inliers.sum() < _FEWEST_INLIERS or np.ptp(position[inliers]) < _SHORTEST_FIT:
            break
        slope, start = np.polyfit(position[inliers], times[inliers], 1, w=np.sqrt(weights[inliers]))
        interval = float(slope) * subdivisions
    step = interval / subdivisions
    phases, _ = _phases(times, weights, start, step, float(np.clip(np.ptp(times) / _SEGMENTS, *_SEGMENT)))
    of_stretches, stretches = _phases(times, weights, start, step, _STRETCH)
    off_grid = tuple(stretches[k] for k in np.flatnonzero(np.abs(of_stretches) > OFF_GRID))
    start = _on_the_beat(decoding_curve, start, interval, subdivisions, chain)
    return ExactTempo(start, interval, resultant, _unsteadiness(phases, step), off_grid), step


def _period(times: Floats, weights: Floats, usual: float, subdivisions: int, around: float) -> tuple[float, float]:
    """The interval near ``usual`` at which the attacks agree best on its subdivision, and how far they do."""
    length = float(np.ptp(times)) or 1.0
    centre = subdivisions / usual
    # steps of an eighth of a turn over the whole take
    frequency = np.arange(centre * (1 - around), centre * (1 + around), 1 / (8 * length))
    resultant = _resultants(times - times[0], weights, frequency[0], 1 / (8 * length), len(frequency)) / weights.sum()
    k = int(np.argmax(resultant))
    return subdivisions / float(frequency[k]), float(resultant[k])


@njit(cache=True, nogil=True)
def _resultants(times: NDArray[Any], weights: NDArray[Any], lowest: float, step: float, count: int) -> NDArray[Any]:
    """The length of the sum of all ``weights`` as vectors turned by their times, for ``count`` frequencies (Hz) from
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


def _phase(times: Floats, weights: Floats, step: float) -> float:
    """Where the grid of subdivisions ``step`` seconds apart stands: between 0 and ``step``."""
    turn = np.angle((weights * np.exp(2j * np.pi * times / step)).sum()) / (2 * np.pi)
    return float(turn % 1.0) * step


def _phases(
    times: Floats, weights: Floats, start: float, step: float, length: float
) -> tuple[Floats, list[tuple[float, float]]]:
    """How many seconds each of the take's segments of some ``length`` (seconds) lies behind the grid, and where they
    begin and end."""
    turns = weights * np.exp(2j * np.pi * (times - start) / step)
    segment = ((times - times[0]) / length).astype(int)
    phases, segments = [], []
    for k in range(segment[-1] + 1):
        turns_here = turns[segment == k]
        if len(turns_here) >= _FEWEST:
            phases.append(np.angle(turns_here.sum()) / (2 * np.pi) * step)
            segments.append((float(times[0] + k * length), float(times[0] + (k + 1) * length)))
    return np.array(phases), segments


def _unsteadiness(phases: Floats, step: float) -> float:
    """See :class:`ExactTempo`; infinite where too few segments have a phase. As the grid was fitted to them, by its
    period and its phase, few segments lie closer to it than they would to the true one."""
    count = len(phases)
    if count < 3:
        return np.inf
    changes = (np.diff(phases) + step / 2) % step - step / 2
    off_grid = _mean_of_least(phases) * np.sqrt(count / (count - 2))
    return float(max(off_grid, _mean_of_least(changes) * np.sqrt((count - 1) / (count - 2)))) / step


def _mean_of_least(values: Floats) -> float:
    """The mean of the least absolute values, :data:`_KEPT_SEGMENTS` of them."""
    return float(np.sort(np.abs(values))[: int(np.ceil(_KEPT_SEGMENTS * len(values)))].mean())


def _on_the_beat(decoding_curve: Floats, start: float, interval: float, subdivisions: int, chain: Floats) -> float:
    """The phase of the beats among the subdivisions: where the decoding curve is highest; seconds."""
    best, worth = start, -np.inf
    for k in range(subdivisions):
        first = start + k * interval / subdivisions
        beats = np.arange(first + interval * np.ceil((chain[0] - first) / interval - _BEYOND_ENDS), chain[-1], interval)
        frames = np.round(beats * FRAME_RATE).astype(int)
        frames = frames[(frames >= 2) & (frames < len(decoding_curve) - 2)]
        if (
            len(frames)
            and (total := float(decoding_curve[frames[:, None] + np.arange(-2, 3)].max(axis=1).mean())) > worth
        ):
            best, worth = first, total
    return best


def aligned(exact: ExactTempo, seconds: Floats) -> ExactTempo:
    """The same with the phase of its beats as they were placed on their attacks (seconds), where that of all attacks
    lies more than half a frame off it: soft ones, and those between the beats, pull it."""
    inside = seconds[(seconds >= exact.first) & (seconds <= exact.last)]
    off = (inside - exact.start + exact.interval / 2) % exact.interval - exact.interval / 2
    by = float(np.median(off)) if len(off) else 0.0
    return replace(exact, start=exact.start + by) if _PULLED < abs(by) <= _BESIDE * exact.interval else exact


def straightened(tempo_map: TempoMap, exact: ExactTempo) -> TempoMap:
    """The map with its beats on the exact tempo where that holds, from the grid's beat nearest to its first one there
    on. Two points hold them, so that the tempo is as exact as the whole take allows."""
    beats, half = tempo_map.beats(), exact.interval / 2
    opens, closes = exact.first - half, exact.last + half
    inside = np.flatnonzero((beats.seconds > opens) & (beats.seconds < closes))
    if len(inside) < 2:
        return tempo_map
    i, j = inside[[0, -1]]
    first = exact.start + exact.interval * round((float(beats.seconds[i]) - exact.start) / exact.interval)
    seconds, quarters = tempo_map.seconds, tempo_map.quarters
    before, after = seconds <= opens, seconds >= closes
    return TempoMap(
        np.concatenate([seconds[before], first + exact.interval * np.array([0, j - i]), seconds[after]]),
        np.concatenate([quarters[before], beats.quarters[[i, j]], quarters[after]]),
        tempo_map.meters,
    )
