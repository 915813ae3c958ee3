"""A small synthesiser: each voice turns one note into samples, with a seeded generator for its noise."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Sound = NDArray[np.float64]
#: ``voice(rate, pitch, seconds, level, noise)``: a note's samples; level 0 to 1.
Voice = Callable[[int, int, float, float, np.random.Generator], Sound]


def hertz(pitch: int) -> float:
    """Equal temperament, A4 (69) = 440 Hz (ISO 16)."""
    return float(440 * 2 ** ((pitch - 69) / 12))


def timeline(rate: int, seconds: float) -> Sound:
    return np.arange(max(8, round(seconds * rate))) / rate


def harmonics(f: float, count: int, t: Sound) -> Iterator[tuple[int, NDArray[np.complex128]]]:
    """The first ``count`` harmonics of ``f`` as complex tones, each from the last by one multiplication."""
    base = np.exp(2j * np.pi * f * t)
    tone = np.ones_like(base)
    for k in range(1, count + 1):
        tone = tone * base
        yield k, tone


@lru_cache(maxsize=64)  # designing the filter costs more than filtering a stroke; each is a few numbers
def _bandpass(rate: int, low: float, high: float) -> NDArray[np.float64]:
    # costs a second to import, which the command line pays only where something is rendered
    from scipy.signal import butter

    return np.asarray(butter(2, [low, min(high, 0.45 * rate)], "bandpass", fs=rate, output="sos"))


def band(x: Sound, rate: int, low: float, high: float) -> Sound:
    """What of ``x`` lies between two frequencies in Hz (Butterworth, second order)."""
    from scipy.signal import sosfilt

    return np.asarray(sosfilt(_bandpass(rate, low, high), x))


def release(x: Sound, rate: int, seconds: float = 0.01) -> Sound:
    n = min(len(x), round(seconds * rate))
    x[-n:] *= np.linspace(1, 0, n)
    return x


def frame_drum(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """Open stroke below pitch 60, finger stroke on the rim above."""
    if pitch >= 60:
        t = timeline(rate, 0.12)
        x = band(noise.standard_normal(len(t)), rate, 1500, 6000) * np.exp(-t / 0.018)
        return release(level * 0.8 * x + level * 0.15 * np.sin(2 * np.pi * 410 * t) * np.exp(-t / 0.03), rate)
    t = timeline(rate, 0.5)
    fall = 92 + 40 * np.exp(-t / 0.02)
    body = np.sin(2 * np.pi * np.cumsum(fall) / rate) * np.exp(-t / 0.13)
    skin = band(noise.standard_normal(len(t)), rate, 300, 2500) * np.exp(-t / 0.012)
    return release(level * (0.9 * body + 0.7 * skin), rate)


def boot(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """A boot on boards."""
    t = timeline(rate, 0.35)
    thud = np.sin(2 * np.pi * np.cumsum(58 + 60 * np.exp(-t / 0.008)) / rate) * np.exp(-t / 0.07)
    board = band(noise.standard_normal(len(t)), rate, 150, 900) * np.exp(-t / 0.01)
    return release(level * (thud + 0.8 * board), rate)


def stick(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """Two sticks struck together."""
    t = timeline(rate, 0.08)
    x = np.sin(2 * np.pi * 2350 * t) + 0.6 * np.sin(2 * np.pi * 3720 * t)
    return release(level * 0.5 * x * np.exp(-t / 0.012), rate)


def bass(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """A plucked double bass: round, with a finger's scrape at the start."""
    t, f = timeline(rate, min(seconds, 1.2) + 0.05), hertz(pitch)
    fade = np.exp(-1.6 * t)
    x, ring = np.zeros(len(t)), np.exp(-1.2 * t)
    for k, tone in harmonics(f, 8, t):
        ring = ring * fade
        x += tone.imag / k**1.6 * ring
    scrape = band(noise.standard_normal(len(t)), rate, 200, 1500) * np.exp(-t / 0.008)
    swell = np.minimum(1, t / 0.006)
    return release(level * (0.7 * x * swell + 0.25 * scrape), rate, 0.04)


def dulcimer(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """Paired strings under a light hammer, ringing on."""
    t, f = timeline(rate, max(seconds, 0.6) + 0.5), hertz(pitch)
    x = np.zeros(len(t))
    fade = np.exp(-1.1 * t)
    for detune in (-0.0006, 0.0007):
        ring = np.exp(-1.8 * t)
        for k, tone in harmonics(f * (1 + detune), 7, t):
            ring = ring * fade
            x += tone.imag / k**1.1 * ring
    hammer = band(noise.standard_normal(len(t)), rate, 2000, 7000) * np.exp(-t / 0.004)
    return release(level * (0.28 * x + 0.5 * hammer), rate, 0.2)


def squeezebox(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """Two reeds a little apart, swelling in over some 30 ms."""
    t, f = timeline(rate, seconds), hertz(pitch)
    x = np.zeros(len(t))
    count = min(12, int(rate / 2.5 / f))
    for reed in (f, 1.003 * f):
        for k, tone in harmonics(reed, count, t):
            x += tone.imag / k**1.2
    swell = (1 - np.exp(-t / 0.03)) * (1 + 0.06 * np.sin(2 * np.pi * 5 * t))
    return release(level * 0.18 * x * swell, rate, 0.05)


def keys(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """A plain struck string, for hearing MIDI performances."""
    t, f = timeline(rate, seconds + 0.25), hertz(pitch)
    x = np.zeros(len(t))
    for k in range(1, 10):
        if f * k < rate / 2.2:
            stretched = f * k * np.sqrt(1 + 0.0004 * k * k)
            x += np.sin(2 * np.pi * stretched * t) / k**1.3 * np.exp(-t * (0.7 + 0.5 * k + f / 900))
    thump = band(noise.standard_normal(len(t)), rate, 200, 2500) * np.exp(-t / 0.006)
    x = 0.4 * x * np.minimum(1, t / 0.002) + 0.25 * thump
    tail = t > seconds
    x[tail] *= np.exp(-(t[tail] - seconds) / 0.06)
    return release(level * x, rate, 0.03)


def beep(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """A machine's dry pulse."""
    t = timeline(rate, 0.06)
    return release(level * np.sin(2 * np.pi * hertz(pitch) * t + 0.5 * np.pi) * np.exp(-t / 0.02), rate)


def thump(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """A machine's bass drum."""
    t = timeline(rate, 0.25)
    return release(
        level * np.cos(2 * np.pi * np.cumsum(48 + 140 * np.exp(-t / 0.015)) / rate) * np.exp(-t / 0.09), rate
    )


def hiss(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """A machine's cymbal."""
    t = timeline(rate, 0.07)
    return release(level * 0.5 * band(noise.standard_normal(len(t)), rate, 6000, 14000) * np.exp(-t / 0.02), rate)
