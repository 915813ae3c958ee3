"""A small synthesiser: each voice turns one note into samples, with a seeded generator for its noise."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import numpy as np
from numba import njit
from numpy.typing import ArrayLike, NDArray

Sound = NDArray[np.float64]
#: ``voice(rate, pitch, seconds, level, noise)``: a note's samples; level 0 to 1.
Voice = Callable[[int, int, float, float, np.random.Generator], Sound]


def hertz(pitch: int) -> float:
    """Equal temperament, A4 (69) = 440 Hz (ISO 16)."""
    return float(440 * 2 ** ((pitch - 69) / 12))


def timeline(rate: int, seconds: float) -> Sound:
    return np.arange(max(8, round(seconds * rate))) / rate


#: Samples at a time: the working arrays stay in the processor's cache.
BLOCK = 1024


@njit(cache=True, nogil=True)
def _clenshaw(weights: Sound, double_cos: Sound, squared: Sound) -> Sound:
    """``b[k] = weights[k] + double_cos * b[k + 1] - squared * b[k + 2]``, down to the first; in blocks that stay in
    the processor's cache, with the samples innermost, so that several go at once."""
    n = len(double_cos)
    out = np.empty(n)
    for start in range(0, n, BLOCK):
        end = min(n, start + BLOCK)
        c, q = double_cos[start:end], squared[start:end]
        last, now = np.zeros(end - start), np.zeros(end - start)
        for k in range(len(weights) - 1, -1, -1):
            w = weights[k]
            for i in range(end - start):
                last[i] = w + c[i] * now[i] - q[i] * last[i]
            last, now = now, last
        out[start:end] = now
    return out


def harmonic_sum(f: float, weights: ArrayLike, t: Sound, decay: float = 0.0) -> Sound:
    """Sine tones at ``f``, 2 ``f``, 3 ``f`` ... Hz, added with ``weights`` (the first is the fundamental's).

    Parameters
    ----------
    t : (n,) seconds from 0, evenly spaced
    decay : the k-th harmonic falls as ``exp(-k * decay * t)``

    Added by Clenshaw's recurrence (Clenshaw 1955, A note on the summation of Chebyshev series).
    """
    growth = 2j * np.pi * f - decay
    # a product for each sample costs a fifth of an exponential
    z = np.outer(np.exp(growth * t[::BLOCK]), np.exp(growth * t[:BLOCK])).ravel()[: len(t)]
    squared = np.exp(-2 * decay * t) if decay else np.ones(len(t))
    return np.asarray(_clenshaw(np.asarray(weights, float), 2 * z.real, squared) * z.imag)


@njit(cache=True, nogil=True)
def falling_partials(hz: Sound, weights: Sound, falls: Sound, count: int, rate: int) -> Sound:
    """``count`` samples of sine tones that fall as ``exp(-falls * t)``: each a phasor that turns by one product a
    sample. ``hz``, ``weights``, ``falls``: one value a tone."""
    out = np.zeros(count)
    for k in range(len(hz)):
        turn = np.exp((2j * np.pi * hz[k] - falls[k]) / rate)
        now = complex(weights[k], 0.0)
        for i in range(count):
            out[i] += now.imag
            now *= turn
    return out


def rolloff(count: int, exponent: float) -> Sound:
    """Weights ``k ** -exponent`` of the first ``count`` harmonics."""
    return np.asarray(np.arange(1.0, count + 1) ** -exponent)


@lru_cache(maxsize=64)  # designing the filter costs more than filtering a stroke; each is a few numbers
def _bandpass(rate: int, low: float, high: float) -> NDArray[np.float64]:
    from scipy.signal import butter  # takes most of a second to import: only who needs it pays

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
    x = harmonic_sum(f, rolloff(8, 1.6), t, decay=1.6) * np.exp(-1.2 * t)
    scrape = band(noise.standard_normal(len(t)), rate, 200, 1500) * np.exp(-t / 0.008)
    swell = np.minimum(1, t / 0.006)
    return release(level * (0.7 * x * swell + 0.25 * scrape), rate, 0.04)


def dulcimer(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """Paired strings under a light hammer, ringing on."""
    t, f = timeline(rate, max(seconds, 0.6) + 0.5), hertz(pitch)
    strings = [harmonic_sum(f * (1 + detune), rolloff(7, 1.1), t, decay=1.1) for detune in (-0.0006, 0.0007)]
    x = (strings[0] + strings[1]) * np.exp(-1.8 * t)
    hammer = band(noise.standard_normal(len(t)), rate, 2000, 7000) * np.exp(-t / 0.004)
    return release(level * (0.28 * x + 0.5 * hammer), rate, 0.2)


def squeezebox(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """Two reeds a little apart, swelling in over some 30 ms."""
    t, f = timeline(rate, seconds), hertz(pitch)
    weights = rolloff(min(12, int(rate / 2.5 / f)), 1.2)
    x = harmonic_sum(f, weights, t) + harmonic_sum(1.003 * f, weights, t)
    swell = (1 - np.exp(-t / 0.03)) * (1 + 0.06 * np.sin(2 * np.pi * 5 * t))
    return release(level * 0.18 * x * swell, rate, 0.05)


def keys(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """A plain struck string, for hearing MIDI performances."""
    t, f = timeline(rate, seconds + 0.25), hertz(pitch)
    k = np.arange(1.0, 10)
    k = k[f * k < rate / 2.2]
    stretched = f * k * np.sqrt(1 + 0.0004 * k * k)
    x = 0.4 * falling_partials(stretched, k**-1.3, 0.7 + 0.5 * k + f / 900, len(t), rate)
    x[: round(0.002 * rate)] *= t[: round(0.002 * rate)] / 0.002
    struck = t[: round(0.1 * rate)]
    x[: len(struck)] += 0.25 * band(noise.standard_normal(len(struck)), rate, 200, 2500) * np.exp(-struck / 0.006)
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
