"""Plays notes with a sound set in the SoundFont format: one note at a time, as stereo samples.

The sound model of the SoundFont Technical Specification 2.04, chapter 9: looped samples, volume and modulation
envelope, two low-frequency oscillators, a resonant low-pass filter, and the default modulators of velocity (8.4.1 and
8.4.2). Controllers, reverb and chorus are left out: a part has none. No library plays it here: those of the registries
need a compiler or a sound card's library to install, and begin notes on the next of their blocks, not on the sample.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from core.instruments.soundfont import G, Sample, SoundFont, Zone

#: Samples between two settings of the filter.
_STEP = 64
#: A sound is over where its envelope has fallen so far, dB.
_SILENT = 96.0
#: Sound sets were made for hardware that took 0.4 of the written attenuation (from memory: so do common players).
_ATTENUATION = 0.4
#: A release lasts no longer than this, seconds: the tail of a part is bounded.
LONGEST_RELEASE = 2.0
#: The head of a stroke below this share of its peak is left out, so that it is heard when its note begins.
_HEAD, _LONGEST_HEAD = 0.02, 0.02


@dataclass(frozen=True)
class Shade:
    """How one stroke differs from another: ``cents`` of pitch, ``db`` of level, ``bright`` cents of the filter."""

    cents: float = 0.0
    db: float = 0.0
    bright: float = 0.0


@lru_cache(maxsize=4)  # the tables of a set: some megabytes
def sound_font(path: Path, _changed: int) -> SoundFont:
    return SoundFont(path)


@lru_cache(maxsize=48)  # a sample is a second or two: some 200 kB
def _sample(font: SoundFont, number: int) -> Sample:
    """A sample about zero: some of a free set lie beside it by a tenth of full scale, which a limiter would follow."""
    found = font.sample(number)
    return replace(found, values=found.values - found.values.mean() if len(found.values) else found.values)


def play(
    font: SoundFont,
    bank: int,
    program: int,
    rate: int,
    key: int,
    velocity: int,
    seconds: float,
    shade: Shade = Shade(),  # frozen
) -> NDArray[np.float32]:
    """A note as (n, 2) float32 samples at ``rate``: ``seconds`` long, then its release. Empty where the set has
    nothing for it. ``bank``: 128 is percussion."""
    voices = [_voice(font, z, rate, key, velocity, seconds, shade) for z in font.zones(bank, program, key, velocity)]
    out = np.zeros((max((len(v) for v in voices), default=0), 2))
    for v in voices:
        out[: len(v)] += v
    return (_without_head(out, rate) if bank == 128 else out).astype(np.float32)


def _cutoff(cents: int, velocity: int, bright: float) -> float:
    """Where the filter stands in Hz: two octaves lower for the softest stroke (8.4.2)."""
    return float(8.176 * 2 ** ((cents - 2400 * (127 - velocity) / 128 + bright) / 1200))


def brightness(x: NDArray[Any], velocity: int, bright: float, rate: int) -> NDArray[Any]:
    """Mono samples as dull as the filter of a sound set's note makes them that says nothing of it."""
    hertz = min(0.45 * rate, _cutoff(13_500, velocity, bright))
    return _low_pass(x, np.full(len(x), hertz), 0.0, rate)


def resampled(x: NDArray[Any], cents: float) -> NDArray[Any]:
    """Mono samples some ``cents`` higher."""
    if not cents:
        return x
    ratio = np.full(int(len(x) / 2 ** (cents / 1200)), 2 ** (cents / 1200))
    return np.asarray(_resampled(x.astype(np.float32), ratio, 0, 0, 1, 0))


def _without_head(x: NDArray[Any], rate: int) -> NDArray[Any]:
    """A stroke from where it is heard on."""
    level = np.abs(x).max(axis=1, initial=0.0)
    if not level.any():
        return x
    start = min(int(np.argmax(level > _HEAD * level.max())), round(_LONGEST_HEAD * rate))
    return x[start:]


def _seconds(timecents: float) -> float:
    return float(2 ** (timecents / 1200)) if timecents > -12_000 else 0.0


def _voice(
    font: SoundFont, zone: Zone, rate: int, key: int, velocity: int, seconds: float, shade: Shade
) -> NDArray[Any]:
    g = zone.generators
    if g[G.KEY] >= 0:
        key = int(g[G.KEY])
    if g[G.VELOCITY] >= 0:
        velocity = int(g[G.VELOCITY])
    sample = _sample(font, int(g[G.SAMPLE]))
    root = int(g[G.ROOT_KEY]) if g[G.ROOT_KEY] >= 0 else sample.key
    cents = (key - root) * g[G.SCALE_TUNING] + 100 * g[G.COARSE_TUNE] + g[G.FINE_TUNE] + sample.cents + shade.cents
    volume = _volume_envelope(g, rate, key, seconds)
    n = len(volume)
    bend = _modulation(g, rate, key, seconds, n)
    looped = int(g[G.SAMPLE_MODES]) & 1
    source = sample.values
    begin = max(0, int(g[G.START] + 32768 * g[G.START_COARSE]))
    end = min(len(source), len(source) + int(g[G.END] + 32768 * g[G.END_COARSE]))
    loop = (
        sample.loop[0] + int(g[G.LOOP_START] + 32768 * g[G.LOOP_START_COARSE]),
        sample.loop[1] + int(g[G.LOOP_END] + 32768 * g[G.LOOP_END_COARSE]),
    )
    if not begin <= loop[0] < loop[1] - 1 < end:
        looped = 0
    left_at = round(seconds * rate) if int(g[G.SAMPLE_MODES]) == 3 else n
    ratio = sample.rate / rate * 2 ** (cents / 1200) * _factor(bend.pitch / 1200, 2)
    x = _resampled(source[:end], ratio, begin, loop[0], loop[1], left_at if looped else 0)
    x = x[: len(volume)]
    cutoff = _cutoff(int(g[G.FILTER_CUTOFF]), velocity, shade.bright)
    x = _low_pass(x, np.clip(cutoff * _factor(bend.filter / 1200, 2), 20.0, 0.45 * rate), g[G.FILTER_Q] / 10, rate)
    db = shade.db - _ATTENUATION * g[G.ATTENUATION] / 10 - 40 * np.log10(127 / max(1, velocity))
    x = x * volume[: len(x)] * _factor(bend.level / 20, 10)[: len(x)] * 10 ** (db / 20)
    angle = np.pi / 2 * np.clip((g[G.PAN] + 500) / 1000, 0, 1)
    return np.asarray(x[:, None] * np.sqrt(2) * np.array([np.cos(angle), np.sin(angle)]))


def _factor(exponents: NDArray[Any], base: float) -> NDArray[Any]:
    """``base ** exponents``; ones where nothing bends, which most notes do not."""
    return np.asarray(base**exponents if exponents.any() else np.ones(len(exponents)))


def _volume_envelope(g: NDArray[np.int64], rate: int, key: int, seconds: float) -> NDArray[Any]:
    """Factors from the note's beginning to where it is silent. Attack rises linearly, decay and release fall evenly in
    dB (9.1.7, 8.1.3)."""
    hold = _seconds(float(g[G.VOL_ENV_HOLD] + g[G.KEY_TO_HOLD] * (60 - key)))
    decay = _seconds(float(g[G.VOL_ENV_DECAY] + g[G.KEY_TO_DECAY] * (60 - key)))
    delay, attack = _seconds(float(g[G.VOL_ENV_DELAY])), _seconds(float(g[G.VOL_ENV_ATTACK]))
    sustain = min(100.0, max(0.0, g[G.VOL_ENV_SUSTAIN] / 10))
    release = min(LONGEST_RELEASE, max(0.01, _seconds(float(g[G.VOL_ENV_RELEASE]))))
    held = max(1, round(seconds * rate))
    total = held + round(release * rate * _SILENT / 100)
    t = np.arange(total) / rate
    down = np.clip((t - delay - attack - hold) / max(decay, 1e-4), 0, 1) * 100
    db = np.minimum(down, sustain)
    rise = np.clip((t - delay) / max(attack, 1 / rate), 0, 1)
    if held < total:
        since = (t[held:] - t[held]) / release * 100
        db[held:] = db[held - 1] + since
        rise[held:] = rise[held - 1]
    over = np.flatnonzero(db >= _SILENT)
    stop = int(over[0]) if len(over) else total
    return np.asarray((rise * 10 ** (-db / 20))[:stop])


@dataclass(frozen=True, eq=False)
class _Bend:
    """What the oscillators and the modulation envelope do along a note: cents of pitch and filter, dB of level."""

    pitch: NDArray[Any]
    filter: NDArray[Any]
    level: NDArray[Any]


def _modulation(g: NDArray[np.int64], rate: int, key: int, seconds: float, n: int) -> _Bend:
    t = np.arange(n) / rate
    pitch, cut, level = np.zeros(n), np.zeros(n), np.zeros(n)
    if g[G.VIBRATO_TO_PITCH]:
        pitch += g[G.VIBRATO_TO_PITCH] * _triangle(t, g[G.VIBRATO_DELAY], g[G.VIBRATO_FREQUENCY])
    if g[G.MOD_LFO_TO_PITCH] or g[G.MOD_LFO_TO_FILTER] or g[G.MOD_LFO_TO_VOLUME]:
        wave = _triangle(t, g[G.MOD_LFO_DELAY], g[G.MOD_LFO_FREQUENCY])
        pitch += g[G.MOD_LFO_TO_PITCH] * wave
        cut += g[G.MOD_LFO_TO_FILTER] * wave
        level += g[G.MOD_LFO_TO_VOLUME] / 10 * wave
    if g[G.MOD_ENV_TO_PITCH] or g[G.MOD_ENV_TO_FILTER]:
        envelope = _modulation_envelope(g, t, seconds)
        pitch += g[G.MOD_ENV_TO_PITCH] * envelope
        cut += g[G.MOD_ENV_TO_FILTER] * envelope
    return _Bend(pitch, cut, level)


def _triangle(t: NDArray[Any], delay: float, frequency: float) -> NDArray[Any]:
    """A triangle between -1 and 1 that begins upward from 0 after its delay (absolute cents: 0 is 8.176 Hz)."""
    phase = np.maximum(0, t - _seconds(float(delay))) * 8.176 * 2 ** (float(frequency) / 1200)
    return np.asarray(2 / np.pi * np.arcsin(np.sin(2 * np.pi * phase)))


def _modulation_envelope(g: NDArray[np.int64], t: NDArray[Any], seconds: float) -> NDArray[Any]:
    """0 to 1: up in the attack along a convex curve (8.1.3, generator 26), evenly down to the sustained level, and down
    to 0 from the note's end on."""
    delay, attack, hold, decay, release = (
        _seconds(float(g[k]))
        for k in (G.MOD_ENV_DELAY, G.MOD_ENV_ATTACK, G.MOD_ENV_HOLD, G.MOD_ENV_DECAY, G.MOD_ENV_RELEASE)
    )
    sustain = 1 - min(1.0, max(0.0, g[G.MOD_ENV_SUSTAIN] / 1000))
    up = np.clip((t - delay) / max(attack, 1e-4), 1e-9, 1)
    up = np.maximum(0, 1 + 40 / _SILENT * np.log10(up))
    down = 1 - np.clip((t - delay - attack - hold) / max(decay, 1e-4), 0, 1)
    held = np.where(t < delay + attack + hold, up, np.maximum(down, sustain))
    left = np.interp(seconds, t, held) if len(t) else 0.0
    falling = np.maximum(0, left - (t - seconds) / max(release, 1e-4))
    return np.where(t <= seconds, held, falling)


@njit(cache=True, nogil=True)
def _resampled(
    source: NDArray[np.float32],
    ratio: NDArray[np.float64],
    begin: int,
    loop_start: int,
    loop_end: int,
    looped_until: int,
) -> NDArray[np.float64]:
    """A sample at changing speed, between its values by a cubic curve (Hermite, four points); the loop goes round
    while fewer than ``looped_until`` values were written. Ends with the sample."""
    n, last = len(ratio), len(source) - 1
    out = np.zeros(n)
    at = float(begin)
    length = loop_end - loop_start
    for i in range(n):
        looping = i < looped_until
        if looping and at >= loop_end:
            at -= length * np.floor((at - loop_start) / length)
        k = int(at)
        if k >= last + 1:
            return out[:i]
        f = at - k
        near = np.zeros(4)
        for j in range(4):
            p = k + j - 1
            if looping and p >= loop_end:
                p -= length
            if 0 <= p <= last:
                near[j] = source[p]
        b = 0.5 * (near[2] - near[0])
        c = near[0] - 2.5 * near[1] + 2 * near[2] - 0.5 * near[3]
        d = 0.5 * (near[3] - near[0]) + 1.5 * (near[1] - near[2])
        out[i] = near[1] + f * (b + f * (c + f * d))
        at += ratio[i]
    return out


@njit(cache=True, nogil=True)
def _filtered(x: NDArray[Any], hertz: NDArray[Any], resonance: float, rate: int) -> NDArray[Any]:
    out = np.empty_like(x)
    s1 = s2 = 0.0
    b0 = b1 = a1 = a2 = 0.0
    for i in range(len(x)):
        if i % _STEP == 0:
            w = 2 * np.pi * hertz[i] / rate
            alpha = np.sin(w) / (2 * resonance)
            a0 = 1 + alpha
            b1 = (1 - np.cos(w)) / a0
            b0 = b1 / 2
            a1 = -2 * np.cos(w) / a0
            a2 = (1 - alpha) / a0
        y = b0 * x[i] + s1
        s1 = b1 * x[i] - a1 * y + s2
        s2 = b0 * x[i] - a2 * y
        out[i] = y
    return out


def _low_pass(x: NDArray[Any], hertz: NDArray[Any], q_db: float, rate: int) -> NDArray[Any]:
    """Two poles; ``q_db`` is the resonance above the level at 0 Hz, half of which is taken off the whole (8.1.3).
    Coefficients after Bristow-Johnson's cookbook of equalisers."""
    if q_db <= 0 and hertz[: len(x)].min(initial=np.inf) > 0.4 * rate:
        return x
    resonance = 10 ** ((max(0.0, q_db) - 3.01) / 20)  # no bump at 0 dB
    return np.asarray(_filtered(x, hertz[: len(x)], resonance, rate) * 10 ** (-max(0.0, q_db) / 40))
