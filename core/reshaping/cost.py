"""What a warp costs in sound: how far it stretches where, which attacks it moves, and what the render shows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.audio import Samples
from core.reshaping.warp import Warp

Floats = NDArray[np.float64]

#: Stretches outside of these are to be listened to (common practice).
GENTLE = (0.8, 1.25)
#: Seconds: an attack that moves farther counts as moved.
_MOVED = 0.030
#: Seconds before and after an attack that are compared on the render; steps of the envelope.
_BEFORE, _AFTER, _STEP = 0.030, 0.012, 0.0005


@dataclass(frozen=True)
class Place:
    """A piece of the recording from ``start`` to ``end`` (seconds) that becomes ``stretch`` times as long."""

    start: float
    end: float
    stretch: float

    @property
    def warns(self) -> bool:
        return not GENTLE[0] <= self.stretch <= GENTLE[1]


@dataclass(frozen=True)
class Cost:
    """``places``: pieces with one stretch each, in time; ``worst``: those that change most, the worst first;
    ``moved``: attacks moved more than 30 ms against what is around them; ``largest``: the stretch farthest from one."""

    places: tuple[Place, ...]
    worst: tuple[Place, ...]
    moved: int
    largest: float


def cost(warp: Warp, attacks: Floats, seconds: float, worst: int = 5, around: Warp | None = None) -> Cost:
    """What ``warp`` does to a recording of ``seconds`` with these attacks; ``around``: what the whole take does."""
    source = np.unique(np.clip(np.concatenate([[0.0], warp.source_sec, [seconds]]), 0.0, max(seconds, 1e-9)))
    if len(source) < 2:
        return Cost((), (), 0, 1.0)
    stretch = np.diff(warp.to_target(source)) / np.diff(source)
    places = tuple(Place(float(a), float(b), float(s)) for a, b, s in zip(source, source[1:], stretch, strict=False))
    order = sorted(places, key=lambda p: -abs(np.log(p.stretch)))
    expected = around.to_target(attacks) if around else attacks
    moved = int((np.abs(warp.to_target(attacks) - expected) > _MOVED).sum()) if len(attacks) else 0
    return Cost(places, tuple(order[:worst]), moved, order[0].stretch)


@dataclass(frozen=True)
class Smear:
    """How a render's attacks compare with the recording's: ``slope``: their rise against the recording's (1: as steep),
    ``echo_db``: sound in the 30 ms before them beyond what was there, in dB against the attack (median)."""

    slope: float
    echo_db: float
    attacks: int


def smear(recording: Samples, render: Samples, rate: int, attacks: Sequence[float] | Floats, warp: Warp) -> Smear:
    """Measured on the samples ``(frames, channels)`` of both, at attacks (seconds of the recording)."""
    slopes, echoes = [], []
    for at, to in zip(attacks, warp.to_target(np.asarray(attacks)), strict=True):
        was, now = _envelope(recording, rate, at), _envelope(render, rate, float(to))
        if was is None or now is None or was.max() <= 1e-6:
            continue
        before = round(_BEFORE / _STEP)
        rise_was, rise_now = np.diff(was[before - 4 :]).max(), np.diff(now[before - 4 :]).max()
        if rise_was > 0:
            slopes.append(rise_now / rise_was)
        peak = was[before:].max()
        extra = np.sqrt(np.mean(now[: before - 4] ** 2)) - np.sqrt(np.mean(was[: before - 4] ** 2))
        echoes.append(20 * np.log10(max(extra, 1e-6 * peak) / peak))
    if not slopes:
        return Smear(1.0, -120.0, 0)
    return Smear(float(np.median(slopes)), float(np.median(echoes)), len(slopes))


def _envelope(samples: Samples, rate: int, at: float) -> Floats | None:
    """Mean size of the samples in steps from 30 ms before ``at`` to 12 ms after; None beyond the ends."""
    step = max(1, round(_STEP * rate))
    first, last = round((at - _BEFORE) * rate), round((at + _AFTER) * rate)
    if first < 0 or last > len(samples):
        return None
    part = np.abs(samples[first:last]).mean(axis=1, dtype=np.float64)
    count = len(part) // step
    return np.asarray(part[: count * step].reshape(count, step).mean(axis=1))


def coherence(one: Samples, other: Samples) -> float:
    """Correlation of two microphones over the same samples (mono sums), at the lag where it is largest within 2,000
    samples: 1 where they are one sound at a distance."""
    a, b = (x.mean(axis=1, dtype=np.float64) for x in (one, other))
    n = min(len(a), len(b))
    size = 1 << int(2 * n - 1).bit_length()
    cross = np.fft.irfft(np.fft.rfft(a[:n], size) * np.conj(np.fft.rfft(b[:n], size)), size)
    lags = np.concatenate([cross[:2000], cross[-2000:]])
    power = float(np.sqrt((a[:n] ** 2).sum() * (b[:n] ** 2).sum()))
    return float(np.abs(lags).max() / power) if power > 0 else 0.0
