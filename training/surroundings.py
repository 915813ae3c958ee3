"""What is on a recording before the music and after it: talk, applause, a room in which nobody plays.

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


def surrounded(rng: Rng, tracks: list[Samples], mix: Samples, evaluation: bool) -> tuple[list[Samples], Samples, float]:
    """The tracks and the mix with something before and after them, and the seconds that the music starts later."""
    before, after = (_surroundings(rng, [*tracks, mix], evaluation) for _ in range(2))
    longer = [np.concatenate(parts) for parts in zip(before, [*tracks, mix], after, strict=True)]
    return longer[:-1], longer[-1], len(before[0]) / RATE


def _surroundings(rng: Rng, recorded: list[Samples], evaluation: bool) -> list[Samples]:
    """What one end of the recording holds, on each of the tracks and on the mix (the last)."""
    count = 0 if rng.random() < 0.15 else round(rng.uniform(SHORTEST, LONGEST) * FRAME_RATE) * HOP
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
