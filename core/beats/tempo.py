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
Bands = NDArray[np.floating]

#: The range in which most music is counted, beats a minute (common practice).
USUAL_RANGE = (70.0, 180.0)
#: The pace most music is counted at when nothing else decides, near the preferred tempo of listeners
#: (Parncutt 1994: about 600 ms; van Noorden and Moelants 1999: about 500 ms).
USUAL_PACE = 115.0
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


def measure(
    curve: Curve, frames: Ints, low: float, high: float, flux: Bands | None = None, ear: Curve | None = None
) -> Count:
    """Rate a chain of beats: strong on the beat, weak between, at a usual tempo, over the whole music.

    ``flux``: everybody's attacks in three bands (frames, 3), low to high; ``ear``: the learned ear's beats. The weights
    are fitted on the practice performances, on subsets of their tracks and on made-up takes (docs/measured.md).
    """
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
    # a swung beat sounds only at its second third: that is still a beat in two; slow beats in three often do so too
    count = Count(frames, bpm, 0.0, on, between, min(thirds, (2.5 if bpm < 85 else 1.3) * min(first, second)))
    # a dotted beat lasts longer than the quarters in which tempo ranges are thought
    pace = bpm * 1.5 if count.ternary else bpm
    # an engineer's own range is meant; the usual one is a habit
    firm = 0.5 if (low, high) == USUAL_RANGE else 2.0
    outside = max(0.0, np.log2(low / pace), np.log2(pace / high))
    usual = 0.2 * np.log2(pace / USUAL_PACE) ** 2 + firm * outside
    # Eighths counted in threes also fill the thirds and leave the half empty; but then the thirds sound about
    # as strong as the beats.
    score = on - 0.4 * between - count.thirds - usual - 1.5 * (1 - coverage) - _eighths(wide, count, pace)
    if flux is not None:
        score += 3 * min(0.12, _backbeat(flux, frames))
    if ear is not None and ear.any():
        score += AGREED * agreement(ear, frames) + LIKELY * _log_odds(ear, frames)
    return replace(count, score=float(score))


#: What a chain is worth that is just what the learned ear hears, and a log-odds of its beats a second.
AGREED, LIKELY = 0.8, 0.2


def agreement(ear: Curve, frames: Ints) -> float:
    """How far a chain and the learned ear mean the same beats, 0 to 1: the harmonic mean of how sure the ear is of the
    chain's beats and of how much of what it hears lies on them. Half and double both lose by it."""
    near = np.zeros(len(ear), dtype=bool)
    near[np.clip(frames[:, None] + np.arange(-4, 5), 0, len(ear) - 1)] = True
    inside = slice(max(0, int(frames[0]) - 50), int(frames[-1]) + 51)
    taken = float(ear[inside][near[inside]].sum() / max(float(ear[inside].sum()), 1e-9))
    around = ear[np.clip(frames[:, None] + np.arange(-2, 3), 0, len(ear) - 1)]
    sure = min(1.0, float(around.mean()) / 0.6)
    return 2 * taken * sure / max(taken + sure, 1e-9)


def _log_odds(ear: Curve, frames: Ints) -> float:
    """How much likelier the chain's beats are beats than not, to the learned ear: log-odds a second. A beat too many
    takes away as much as a beat too few leaves out."""
    likely = ear[np.clip(frames[:, None] + np.arange(-3, 4), 0, len(ear) - 1)].max(axis=1)
    likely = np.clip(likely / TOP, 0.03, 0.97)
    return float(np.log(likely / (1 - likely)).sum() * FRAME_RATE / (frames[-1] - frames[0]))


#: What the ear says of a beat that it is quite sure of.
TOP = 0.95


def _eighths(wide: Curve, count: Count, pace: float) -> float:
    """How much a pulse looks like the eighths of slower beats, as a price.

    Nothing sounds between its beats, every other beat is weaker, and what is played repeats after even
    numbers of beats only: an odd bar cannot be counted at half its tempo (common practice).
    """
    bare = max(0.0, 1 - max(count.between, count.thirds) / max(count.on, 1e-6) / 0.35)
    if bare == 0:
        return 0.0
    strength = wide[count.frames]
    windows = [strength[k : k + 16] for k in range(0, max(1, len(strength) - 15), 8)]
    uneven = np.mean([abs(w[::2].mean() - w[1::2].mean()) / (w.mean() + 1e-9) for w in windows])
    fast = float(np.clip(2.5 * np.log2(pace / 115), 0, 1))
    return float(bare * (0.12 * uneven + 0.2 * fast / (1 + np.exp(-_even(wide, count.frames) / 0.02))))


def _backbeat(flux: Bands, frames: Ints) -> float:
    """How much low attacks and higher ones answer each other from beat to beat, as kick and snare do, 0 to 1.

    Counted twice as fast both fall on the same half of the beats, counted half as fast on all of them.
    """
    reach = np.clip(frames[:, None] + np.arange(-3, 4), 0, len(flux) - 1)
    bands = flux[reach].max(axis=1)
    answers = []
    for k in range(0, max(1, len(frames) - 15), 8):
        even, odd = bands[k : k + 16 : 2].mean(axis=0), bands[k + 1 : k + 16 : 2].mean(axis=0)
        lead = (even - odd) / np.maximum(even + odd, 1e-9)
        answers.append(np.maximum(-lead[0] * lead[1:], 0))
    return float(np.mean(answers, axis=0).max())


def _even(wide: Curve, frames: Ints) -> float:
    """How much more alike beats are at even distances than at odd ones, up to 16 beats."""
    near = np.max([np.roll(wide, -1), wide, np.roll(wide, 1)], axis=0)
    gaps = np.diff(frames)
    quarters = np.stack([near[frames[:-1] + np.round(gaps * s).astype(np.int64)] for s in (0, 0.25, 0.5, 0.75)], 1)
    pattern = (quarters - quarters.mean(axis=0)) / (quarters.std(axis=0) + 1e-9)
    lags = range(1, min(17, len(pattern) - 4))
    alike = np.array([np.mean(pattern[lag:] * pattern[:-lag]) for lag in lags])
    return float(alike[1::2].mean() - alike[::2].mean()) if len(alike) > 1 else 0.0


def counts(
    curve: Curve,
    tempo: tuple[float, float] = USUAL_RANGE,
    leash: Leash = Leash(),
    progress: Callable[[float], None] = lambda _: None,
    pins: Ints | None = None,
    flux: Bands | None = None,
    ear: Curve | None = None,
    pulse: Curve | None = None,
) -> list[Count]:
    """Ways to count the take, the most convincing first; empty where there is no beat at all.

    ``pulse`` is what beats are found on, where that is more than the attack ``curve``; see :func:`measure`."""
    low, high = tempo
    out: list[Count] = []
    pulse = curve if pulse is None else pulse
    tried = candidates(pulse, low, high)
    # two at a time: the compiled decoder leaves the interpreter free; the order of results stays the same
    with ThreadPoolExecutor(2) as pool:
        chains = pool.map(lambda home: decode(pulse, home / STRAY, home * STRAY, home, leash, pins)[0], tried)
        decoded = []
        for frames in chains:
            decoded.append(frames)
            progress(len(decoded) / len(tried))
    for frames in decoded:
        if len(frames) < 8:
            continue
        count = measure(curve, frames, low, high, flux, ear)
        if all(abs(np.log(count.bpm / o.bpm)) > 0.03 for o in out):
            out.append(count)
    return sorted(out, key=lambda c: -c.score)
