"""What happens to sound between an instrument and a file: amplifiers, compressors, rooms, tape, codecs, noise.

All on mono float32 at the listening rate; each takes its generator, so that a seed sounds the same for ever.
"""

from __future__ import annotations

import io

import numpy as np
import soundfile as sf
from numba import njit
from numpy.typing import NDArray
from scipy.signal import butter, fftconvolve, lfilter, sosfilt

from core.listening.rates import LISTENING_RATE as RATE

Samples = NDArray[np.float32]
Rng = np.random.Generator


def level(x: Samples) -> float:
    """RMS of what sounds."""
    loud = x[np.abs(x) > 1e-4]
    return float(np.sqrt(np.mean(loud**2))) if len(loud) else 1.0


def amplifier(rng: Rng, x: Samples) -> Samples:
    """Overdrive into a loudspeaker."""
    x = x / (level(x) + 1e-9)
    x = sosfilt(butter(1, rng.uniform(60, 250), "highpass", fs=RATE, output="sos"), x)
    drive, bias = 10 ** (rng.uniform(0, 32) / 20), rng.uniform(0, 0.2)
    x = np.tanh(drive * x + bias) - np.tanh(bias)
    return sosfilt(butter(2, rng.uniform(2800, 6500), "lowpass", fs=RATE, output="sos"), x).astype(np.float32)


@njit(cache=True)
def _gain(power: np.ndarray, attack: float, release: float, threshold: float, ratio: float) -> np.ndarray:
    out = np.empty(len(power), dtype=np.float32)
    env = 0.0
    for i in range(len(power)):
        p = power[i]
        env += (p - env) * (attack if p > env else release)
        over = env / threshold
        out[i] = over ** (0.5 * (1.0 / ratio - 1.0)) if over > 1.0 else 1.0
    return out


def compressor(rng: Rng, x: Samples, hard: bool = False) -> Samples:
    """Feed-forward compression by the smoothed power."""
    attack = 1 - np.exp(-1 / (RATE * rng.uniform(0.0003, 0.03)))
    release = 1 - np.exp(-1 / (RATE * rng.uniform(0.04, 0.4)))
    threshold = level(x) ** 2 * 10 ** (rng.uniform(-14, 4) / 10)
    ratio = rng.uniform(4, 20) if hard else rng.uniform(1.5, 6)
    return x * _gain((x * x).astype(np.float64), attack, release, threshold + 1e-12, ratio)


def equaliser(rng: Rng, x: Samples) -> Samples:
    """Up to three peaks or dips of up to 10 dB (cookbook formulae by R. Bristow-Johnson, from memory)."""
    for _ in range(int(rng.integers(0, 4))):
        w = 2 * np.pi * np.exp(rng.uniform(np.log(60), np.log(8000))) / RATE
        a, alpha = 10 ** (rng.uniform(-10, 10) / 40), np.sin(w) / (2 * rng.uniform(0.5, 2))
        b0, a0 = 1 + alpha * a, 1 + alpha / a
        b = np.array([b0, -2 * np.cos(w), 1 - alpha * a]) / a0
        x = lfilter(b, np.array([1, -2 * np.cos(w) / a0, (1 - alpha / a) / a0]), x)
    return np.asarray(x, dtype=np.float32)


def band_limit(rng: Rng, x: Samples) -> Samples:
    """A telephone, a cassette, a microphone in a bag."""
    low, high = rng.uniform(20, 300), rng.uniform(2500, 9000)
    return sosfilt(butter(2, [low, high], "bandpass", fs=RATE, output="sos"), x).astype(np.float32)


def room(rng: Rng, x: Samples, wet: float, delay: float = 0.0) -> Samples:
    """Early reflections and a tail that dies away, darker as it does; ``delay``: seconds the direct sound is late."""
    length = rng.uniform(0.15, 1.6)
    n = int(length * RATE)
    t = np.arange(n) / RATE
    tail = rng.standard_normal(n) * np.exp(-6.9 * t / length)
    tail = lfilter([1 - (p := rng.uniform(0.1, 0.8))], [1, -p], tail)
    for _ in range(6):
        tail[int(rng.uniform(0.003, 0.06) * RATE) % n] += rng.uniform(-4, 4)
    tail *= wet / (np.sqrt(np.sum(tail**2)) + 1e-9)
    tail[0] = 1.0
    out = fftconvolve(x, tail.astype(np.float32))[: len(x)]
    late = int(delay * RATE)
    return np.concatenate([np.zeros(late), out])[: len(x)].astype(np.float32)


def clip(rng: Rng, x: Samples) -> Samples:
    top = np.percentile(np.abs(x), 100 - rng.uniform(0.05, 3)) + 1e-6
    return np.clip(x, -top, top)


def limiter(rng: Rng, x: Samples) -> Samples:
    """As loud as modern masters: soft clipping after a hard compressor."""
    x = compressor(rng, x, hard=True)
    return np.tanh(x / (level(x) + 1e-9) * rng.uniform(0.3, 1.2)).astype(np.float32)


def codec(rng: Rng, x: Samples) -> Samples:
    """Through a lossy codec at a low rate and back."""
    peak = float(np.abs(x).max()) + 1e-9
    packed = io.BytesIO()
    with sf.SoundFile(packed, "w", RATE, 1, "VORBIS", format="OGG", compression_level=float(rng.uniform(0.5, 1))) as f:
        scaled = 0.9 * x / peak
        for i in range(0, len(x), 65536):
            f.write(scaled[i : i + 65536])
    packed.seek(0)
    back, _ = sf.read(packed, dtype="float32")
    out = np.zeros(len(x), dtype=np.float32)
    out[: min(len(x), len(back))] = back[: len(x)]
    return out * peak


def noise(rng: Rng, count: int) -> Samples:
    """Hiss, hum and, now and then, people; about as loud as 1."""
    out = rng.standard_normal(count, dtype=np.float32)
    if rng.random() < 0.5:
        out = 3 * lfilter([1 - (p := rng.uniform(0.5, 0.97))], [1, -p], out)
    if rng.random() < 0.3:  # a second of it comes round, as the mains are in whole hertz
        mains = rng.choice([50.0, 60.0])
        t = np.arange(RATE) / RATE
        hum = sum(rng.uniform(0, 3) / k * np.sin(2 * np.pi * mains * k * t + rng.uniform(0, 6)) for k in range(1, 9))
        out = out + np.resize(hum, count)
    if rng.random() < 0.2:
        voices = sosfilt(butter(2, [250, 1800], "bandpass", fs=RATE, output="sos"), rng.standard_normal(count))
        turns = np.arange(0, count + 4000, 4000)
        out = out + 6 * voices * np.interp(np.arange(count), turns, rng.random(len(turns)) ** 2)
    return (out / (np.std(out) + 1e-9)).astype(np.float32)


def applause(rng: Rng, count: int, start: float) -> Samples:
    """Many hands from ``start`` seconds on, as bursts of noise."""
    out = np.zeros(count, dtype=np.float32)
    burst = np.exp(-np.arange(400) / 60).astype(np.float32)
    for t in rng.uniform(start, count / RATE, int(60 * max(0.1, count / RATE - start))):
        k = int(t * RATE)
        n = min(len(burst), count - k)
        out[k : k + n] += rng.uniform(0.1, 1) * burst[:n] * rng.standard_normal(n).astype(np.float32) * 0.3
    return out
