"""The built-in instruments of parts: a drum kit by General MIDI's percussion keys, a pad, strings, a plucked string."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from core.instruments.voices import Sound, Voice, band, bass, harmonic_sum, hertz, keys, release, rolloff, timeline

#: The channel of percussion, counted from 0 (General MIDI, RP-003).
PERCUSSION = 9


@dataclass(frozen=True)
class Instrument:
    """``program``: of General MIDI, from 0; the kit has none. ``tail``: how long a note may ring on, seconds. The voice
    gives (n,) or (n, 2) samples."""

    name: str
    voice: Voice
    program: int
    tail: float


def drums(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """A small kit; each key of General MIDI's percussion map plays the nearest drum there is."""
    if pitch in (35, 36):
        return _kick(rate, level, noise)
    if pitch in (38, 40, 39):
        return _snare(rate, level, noise, 0.11 if pitch != 39 else 0.06)
    if pitch == 37:
        return _knock(rate, 1700, level, noise)
    if pitch in (41, 43, 45, 47, 48, 50):
        return _tom(rate, {41: 82, 43: 98, 45: 118, 47: 140, 48: 165, 50: 190}[pitch], level, noise)
    if pitch in (42, 44):
        return _metal(rate, 0.035, 7000, level * 0.6, noise)
    if pitch == 46:
        return _metal(rate, 0.22, 6500, level * 0.6, noise)
    if pitch in (51, 53, 59):
        return _metal(rate, 0.35, 4500, level * 0.45, noise)
    if pitch in (49, 52, 55, 57):
        return _metal(rate, 0.7, 3500, level * 0.7, noise)
    if pitch in (54, 69, 70, 82):
        return _shaker(rate, level, noise)
    return _knock(rate, 420 + 14 * (pitch % 48), level, noise)


def _kick(rate: int, level: float, noise: np.random.Generator) -> Sound:
    t = timeline(rate, 0.32)
    body = np.sin(2 * np.pi * np.cumsum(50 + 110 * np.exp(-t / 0.018)) / rate) * np.exp(-t / 0.1)
    beater = band(noise.standard_normal(len(t)), rate, 1200, 5000) * np.exp(-t / 0.004)
    return release(level * (0.9 * body + 0.25 * beater), rate)


def _snare(rate: int, level: float, noise: np.random.Generator, decay: float) -> Sound:
    t = timeline(rate, 0.3)
    wires = band(noise.standard_normal(len(t)), rate, 900, 9000) * np.exp(-t / decay)
    head = np.sin(2 * np.pi * 187 * t) * np.exp(-t / 0.06) + 0.5 * np.sin(2 * np.pi * 331 * t) * np.exp(-t / 0.035)
    return release(level * (0.55 * wires + 0.4 * head), rate)


def _tom(rate: int, hz: float, level: float, noise: np.random.Generator) -> Sound:
    t = timeline(rate, 0.45)
    body = np.sin(2 * np.pi * np.cumsum(hz * (1 + 0.3 * np.exp(-t / 0.03))) / rate) * np.exp(-t / 0.16)
    skin = band(noise.standard_normal(len(t)), rate, 400, 3000) * np.exp(-t / 0.006)
    return release(level * (0.8 * body + 0.2 * skin), rate)


def _metal(rate: int, decay: float, low: float, level: float, noise: np.random.Generator) -> Sound:
    t = timeline(rate, min(1.6, 5 * decay))
    return release(level * 0.7 * band(noise.standard_normal(len(t)), rate, low, 14_000) * np.exp(-t / decay), rate)


def _shaker(rate: int, level: float, noise: np.random.Generator) -> Sound:
    t = timeline(rate, 0.09)
    return release(
        level * 0.5 * band(noise.standard_normal(len(t)), rate, 4000, 11_000) * (t / 0.008) * np.exp(1 - t / 0.014),
        rate,
    )


def _knock(rate: int, hz: float, level: float, noise: np.random.Generator) -> Sound:
    t = timeline(rate, 0.1)
    wood = np.sin(2 * np.pi * hz * t) * np.exp(-t / 0.014)
    return release(
        level * (0.5 * wood + 0.2 * band(noise.standard_normal(len(t)), rate, 1000, 6000) * np.exp(-t / 0.004)), rate
    )


def pad(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """Soft detuned harmonics that swell in over 120 ms and fade over 300 ms."""
    t, f = timeline(rate, seconds + 0.3), hertz(pitch)
    weights = rolloff(max(1, min(6, int(rate / 2.5 / f))), 2)
    swell = level * 0.22 * np.minimum(1, t / 0.12)
    return _wide(f, 0.0027, weights, t, swell, rate, 0.3)


def strings(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """Bowed strings: brighter than the pad, in within 60 ms, with some bow at the start."""
    t, f = timeline(rate, seconds + 0.2), hertz(pitch)
    weights = rolloff(max(1, min(16, int(rate / 2.5 / f))), 1.25)
    swell = level * 0.17 * (1 - np.exp(-t / 0.05)) * (1 + 0.05 * np.sin(2 * np.pi * 5.3 * t))
    out = _wide(f, 0.0035, weights, t, swell, rate, 0.2)
    start = t[: round(0.15 * rate)]
    bow = band(noise.standard_normal(len(start)), rate, 1500, 7000) * np.exp(-start / 0.05)
    out[: len(start)] += (level * 0.02 * bow * np.minimum(1, start / 0.01))[:, None]
    return out


def _wide(f: float, apart: float, weights: Sound, t: Sound, swell: Sound, rate: int, fade: float) -> Sound:
    """(n, 2): two layers a little apart in pitch, each nearer to one side."""
    low, high = (release(swell * harmonic_sum(f * k, weights, t), rate, fade) for k in (1 - apart / 2, 1 + apart / 2))
    return np.stack([1.3 * low + 0.7 * high, 0.7 * low + 1.3 * high], axis=1)


def pluck(rate: int, pitch: int, seconds: float, level: float, noise: np.random.Generator) -> Sound:
    """A plucked string: higher harmonics decay faster; after its release it fades within 80 ms."""
    t, f = timeline(rate, min(seconds, 3.0) + 0.08), hertz(pitch)
    k = np.arange(1, max(1, min(10, int(rate / 2.5 / f))) + 1)
    x = harmonic_sum(f, np.sin(np.pi * k * 0.21) / k, t, decay=0.9) * np.exp(-1.1 * t)
    return release(level * 0.5 * x * np.minimum(1, t / 0.0015), rate, 0.08)


INSTRUMENTS = {
    i.name: i
    for i in (
        Instrument("drums", drums, 0, 1.6),
        Instrument("bass", bass, 32, 0.1),
        Instrument("pad", pad, 89, 0.35),
        Instrument("strings", strings, 48, 0.25),
        Instrument("pluck", pluck, 25, 0.1),
        Instrument("keys", keys, 0, 0.35),
    )
}


def instrument_for(program: int, channel: int) -> str:
    """The instrument that comes nearest to a General MIDI program (from 0) on a channel (from 0)."""
    if channel == PERCUSSION:
        return "drums"
    if 32 <= program < 40:
        return "bass"
    if 40 <= program < 52:
        return "strings"
    if 52 <= program < 56 or 88 <= program < 104:
        return "pad"
    if 24 <= program < 32 or 104 <= program < 112:
        return "pluck"
    return "keys"
