"""What is on a recording beside a piece of music: talk before it and after it, applause, a room in which nobody plays;
or another piece.

Voices: Debian's asterisk-core-sounds packages, recorded speech (CC BY-SA 3.0 and CC BY 3.0), needed only here. For
learning those of two women in English and Russian, for evaluation those of a man in Italian and a woman in French.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import soundfile
import soxr
from numpy.typing import NDArray

from core.listening.rates import FRAME_RATE, HOP
from core.listening.rates import LISTENING_RATE as RATE
from training import effects

Samples = NDArray[np.float32]
Rng = np.random.Generator
VOICES = Path("/usr/share/asterisk/sounds")
SPEAKERS = {False: ("en_US_*", "ru_RU_*"), True: ("it_IT_*", "fr_CA_*")}
#: Seconds before or after the music where there are any.
SHORTEST, LONGEST = 3.0, 25.0


def surrounded(rng: Rng, tracks: list[Samples], evaluation: bool) -> tuple[list[Samples], float]:
    """Tracks (the last is the mix) with something before and after them, and how many seconds later the music
    starts."""
    before, after = (_surroundings(rng, tracks, evaluation) for _ in range(2))
    longer = [np.concatenate(parts) for parts in zip(before, tracks, after, strict=True)]
    return longer, len(before[0]) / RATE


def one_after_the_other(
    rng: Rng, first: list[Samples], second: list[Samples], evaluation: bool
) -> tuple[list[Samples], float]:
    """Two pieces in one recording, as at a rehearsal or a concert: their tracks (the last is the mix) with talk,
    applause or an empty room between, and how many seconds after the first the second one starts. Either of
    them is up to 15 dB softer than the other."""
    count = max(len(first), len(second))
    first, second = (_as_many(tracks, count) for tracks in (first, second))
    softer = np.float32(10 ** (-rng.uniform(0, 15) / 20))
    scale = (1, softer) if rng.random() < 0.5 else (softer, 1)
    loudest = [a if scale[0] == 1 else b for a, b in zip(first, second, strict=True)]
    between = _surroundings(rng, loudest, evaluation, least=1.0)
    parts = zip(first, between, second, strict=True)
    tracks = [np.concatenate([scale[0] * a, x, scale[1] * b]).astype(np.float32) for a, x, b in parts]
    return tracks, (len(first[0]) + len(between[0])) / RATE


def _as_many(tracks: list[Samples], count: int) -> list[Samples]:
    """``count`` tracks: some on which nothing is played before the last, the mix."""
    return [*tracks[:-1], *[np.zeros_like(tracks[0])] * (count - len(tracks)), tracks[-1]]


def _surroundings(rng: Rng, recorded: list[Samples], evaluation: bool, least: float = 0.85) -> list[Samples]:
    """What is recorded beside a piece, on each of the tracks and on the mix (the last); ``least``: the probability that
    anything is."""
    count = 0 if rng.random() < 1 - least else round(rng.uniform(SHORTEST, LONGEST) * FRAME_RATE) * HOP
    talking, clapping = rng.random() < 0.6, rng.random() < 0.4
    near = int(rng.integers(len(recorded)))  # the microphone that is spoken into
    talk_level, clap_level, floor = (10 ** (rng.uniform(*r) / 20) for r in ((-20, 0), (-25, 0), (-75, -40)))
    talk = _talk(rng, count, evaluation) if talking else np.zeros(count, np.float32)
    start, end = np.sort(rng.uniform(0, count / RATE, 2))
    claps = _unit(_swelling(effects.applause(rng, count, start), start, end)) if clapping else np.zeros_like(talk)
    noise = effects.noise(rng, count) if count else talk
    out = []
    for k, x in enumerate(recorded):
        far = 1.0 if k == near or k == len(recorded) - 1 else 10 ** (rng.uniform(-35, -8) / 20)
        sound = talk_level * far * talk + clap_level * 10 ** (rng.uniform(-8, 0) / 20) * claps + floor * noise
        out.append((np.float32(effects.level(x)) * sound).astype(np.float32))
    return out


def _talk(rng: Rng, count: int, evaluation: bool) -> Samples:
    """Sentences with pauses, by one of the speakers, a little slower or faster than recorded."""
    files = sorted(VOICES.glob(f"{rng.choice(SPEAKERS[evaluation])}/*.wav"))
    pace, out = float(rng.uniform(0.85, 1.15)), np.zeros(count, dtype=np.float32)
    at = round(rng.exponential(1.0) * RATE)
    while at < count:
        words, rate = soundfile.read(files[int(rng.integers(len(files)))], dtype="float32")
        words = soxr.resample(words, rate * pace, RATE)[: count - at]
        out[at : at + len(words)] = words
        at += len(words) + round(rng.exponential(1.2) * RATE)
    return _unit(out)


def _swelling(x: Samples, start: float, end: float) -> Samples:
    """``x`` coming and going: over within some seconds after ``end`` (seconds)."""
    t = np.arange(len(x)) / RATE
    return (x * np.clip((t - start) / 0.7, 0, 1) * np.exp(-np.maximum(0, t - end) / 1.5)).astype(np.float32)


def _unit(x: Samples) -> Samples:
    return x / np.float32(effects.level(x))
