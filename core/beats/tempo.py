"""At which speed the take is counted: candidate tempos, each decoded, then compared as a musician would."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from core.beats.decoder import Leash, decode
from core.beats.fusion import periodicity
from core.beats.hypothesis import USUAL_PACE, USUAL_RANGE, Curve, Ints, TempoHypothesis, score_hypothesis
from core.listening.spectrum import FRAME_RATE

#: How far one take may stray from its main tempo, as a factor either way.
STRAY = 1.45


def candidates(curve: Curve, low: float, high: float, most: int = 4) -> list[float]:
    """Tempos (beats a minute) at which the curve repeats, strongest first, with their kin in range.

    Kin are half, double, 2:3 and 3:2, the usual mistakes.
    """
    lags = np.arange(int(60 * FRAME_RATE / (high * 1.1)), min(int(60 * FRAME_RATE / (low * 0.9)), 300) + 1)
    ac = periodicity(curve, 601)
    # a beat's interval repeats at its double as well
    strength = ac[lags] + 0.5 * ac[2 * lags]
    strength = strength - 0.15 * np.log2(lags / (60 * FRAME_RATE / USUAL_PACE)) ** 2
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


def counts(
    curve: Curve,
    tempo: tuple[float, float] = USUAL_RANGE,
    leash: Leash = Leash(),
    progress: Callable[[float], None] = lambda _: None,
    pins: Ints | None = None,
    activation: Curve | None = None,
    pulse: Curve | None = None,
) -> list[TempoHypothesis]:
    """Ways to count the take, the most convincing first; empty where there is no beat at all.

    ``pulse`` is what beats are found on, where that is more than the attack ``curve``; for the rest see
    :func:`core.beats.hypothesis.score_hypothesis`."""
    low, high = tempo
    out: list[TempoHypothesis] = []
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
        count = score_hypothesis(curve, frames, low, high, activation)
        if all(abs(np.log(count.bpm / o.bpm)) > 0.03 for o in out):
            out.append(count)
    return sorted(out, key=lambda c: -c.score)
