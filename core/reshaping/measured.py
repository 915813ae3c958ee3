"""What a render shows: whether attacks rise as steeply as they did, what sounds before them, its level, and microphones
that stay in phase. Objective measures in place of listening tests; Roberts and Paliwal ("A time-scale modification
dataset with subjective quality labels", 2020) compare such measures with what listeners say."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.audio import Samples
from core.reshaping.sources import SampleSource
from core.reshaping.warp import Warp

Floats = NDArray[np.float64]

#: Seconds before and after an attack that are compared on the render; steps of the envelope.
_BEFORE, _AFTER, _STEP = 0.030, 0.012, 0.0005
#: Samples either way within which two microphones are compared.
_LAGS = 2000
#: Steps before an attack that belong to its rise; what is never reached reads as so many dB.
_RISE_STEPS, _NOTHING_DB = 4, -120.0
#: Attacks of a track that are looked at, at most; and seconds behind each in which microphones are compared.
_MOST_ATTACKS, _TOGETHER_SEC = 200, 0.2
#: Seconds of a piece whose level is taken; mean square below which it is silent (-70 dB).
_PIECE_SEC, _SILENCE = 0.4, 1e-7


@dataclass(frozen=True)
class Smear:
    """How a render's attacks compare with the recording's: ``slope``: their rise against the recording's (1: as steep),
    ``echo_db``: sound in the 30 ms before them beyond what was there, in dB against the attack (median)."""

    slope: float
    echo_db: float
    attacks: int


def smear(recording: SampleSource, render: SampleSource, attacks: Floats, warp: Warp) -> Smear:
    """Measured on both, at attacks (seconds of the recording)."""
    slopes, echoes = [], []
    for at, to in zip(attacks, warp.to_target(np.asarray(attacks)), strict=True):
        was, now = _envelope(recording, float(at)), _envelope(render, float(to))
        if was is None or now is None or was.max() <= 1e-6:
            continue
        before = round(_BEFORE / _STEP)
        rise_was, rise_now = np.diff(was[before - _RISE_STEPS :]).max(), np.diff(now[before - _RISE_STEPS :]).max()
        if rise_was > 0:
            slopes.append(rise_now / rise_was)
        peak = was[before:].max()
        extra = np.sqrt(np.mean(now[: before - _RISE_STEPS] ** 2)) - np.sqrt(np.mean(was[: before - _RISE_STEPS] ** 2))
        echoes.append(20 * np.log10(max(extra, 1e-6 * peak) / peak))
    if not slopes:
        return Smear(1.0, _NOTHING_DB, 0)
    return Smear(float(np.median(slopes)), float(np.median(echoes)), len(slopes))


def _envelope(source: SampleSource, at: float) -> Floats | None:
    """Mean size of the samples in steps from 30 ms before ``at`` to 12 ms after; None beyond the ends."""
    step = max(1, round(_STEP * source.rate))
    first, last = round((at - _BEFORE) * source.rate), round((at + _AFTER) * source.rate)
    if first < 0 or last > source.frames:
        return None
    part = np.abs(source.read(first, last)).mean(axis=1, dtype=np.float64)
    count = len(part) // step
    return np.asarray(part[: count * step].reshape(count, step).mean(axis=1))


def coherence(one: Samples, other: Samples) -> float:
    """Correlation of two microphones over the same samples (mono sums), at the lag where it is largest within 2,000
    samples: 1 where they are one sound at a distance."""
    a, b = (x.mean(axis=1, dtype=np.float64) for x in (one, other))
    n = min(len(a), len(b))
    size = 1 << int(2 * n - 1).bit_length()
    cross = np.fft.irfft(np.fft.rfft(a[:n], size) * np.conj(np.fft.rfft(b[:n], size)), size)
    lags = np.concatenate([cross[:_LAGS], cross[-_LAGS:]])
    power = float(np.sqrt((a[:n] ** 2).sum() * (b[:n] ** 2).sum()))
    return float(np.abs(lags).max() / power) if power > 0 else 0.0


@dataclass(frozen=True)
class Measured:
    """Of one track. ``level_db``: by how much its mean power changed; ``in_phase`` and ``in_phase_before``: its
    correlation at attacks with the first microphone of its group (median), None where it is alone."""

    smear: Smear
    level_db: float
    in_phase: float | None = None
    in_phase_before: float | None = None


def measure(
    recordings: Sequence[SampleSource], renders: Sequence[SampleSource], warp: Warp, attacks: Floats
) -> list[Measured]:
    """Of each track of a group that was stretched as one. ``attacks``: seconds of the recording."""
    if len(attacks) > _MOST_ATTACKS:
        attacks = attacks[np.linspace(0, len(attacks) - 1, _MOST_ATTACKS).round().astype(int)]
    out = []
    for k, (recording, render) in enumerate(zip(recordings, renders, strict=True)):
        found = smear(recording, render, attacks, warp)
        level = 10 * float(np.log10(max(_power(render), 1e-12) / max(_power(recording), 1e-12)))
        together = (
            (_in_phase(renders[0], render, warp.to_target(attacks)), _in_phase(recordings[0], recording, attacks))
            if k
            else (None, None)
        )
        out.append(Measured(found, level, *together))
    return out


def _in_phase(one: SampleSource, other: SampleSource, attacks: Floats) -> float | None:
    long = round(_TOGETHER_SEC * one.rate)
    starts = [round(float(a) * one.rate) for a in attacks]
    found = [coherence(one.read(s, s + long), other.read(s, s + long)) for s in starts]
    return float(np.median(found)) if found else None


def _power(source: SampleSource) -> float:
    """Mean square of what is loud: pieces of 0.4 s less than 10 dB under the mean of all that sound (the gate of ITU-R
    BS.1770, without its filters)."""
    piece = round(_PIECE_SEC * source.rate)
    squares = [
        float((source.read(at, at + piece).astype(np.float64) ** 2).mean()) for at in range(0, source.frames, piece)
    ]
    sounds = np.array([s for s in squares if s > _SILENCE])
    return float(sounds[sounds > 0.1 * sounds.mean()].mean()) if len(sounds) else 0.0
