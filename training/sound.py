"""The sound of a made-up performance, and what the tracker hears in it.

FluidSynth (LGPL) plays Debian's fluid-soundfont-gm (MIT). Needed only here, never by the application.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray
from scipy.signal import fftconvolve

from core.beats.fusion import Player
from core.beats.mixes import guided
from core.listening import attacks, percussive
from core.listening.audio import LISTENING_RATE
from core.listening.spectrum import evidence
from training.compose import Note, Performance

Samples = NDArray[np.float32]
SOUNDS = "/usr/share/sounds/sf2/FluidR3_GM.sf2"


class Stage:
    """One synthesiser, loaded once, playing one track after another at the listening rate."""

    def __init__(self) -> None:
        import fluidsynth

        self.synth = fluidsynth.Synth(gain=0.5, samplerate=float(LISTENING_RATE))
        self.synth.setting("synth.reverb.active", 0)
        self.synth.setting("synth.chorus.active", 0)
        self.font = self.synth.sfload(SOUNDS)

    def play(self, program: int, notes: list[Note], seconds: float) -> Samples:
        """A track in mono; as long as ``seconds``."""
        channel, bank = (9, 128) if program < 0 else (0, 0)
        self.synth.system_reset()
        self.synth.program_select(channel, self.font, bank, max(0, program))
        events = sorted(
            [(n.start, 1, n.pitch, n.velocity) for n in notes] + [(min(n.end, seconds), 0, n.pitch, 0) for n in notes]
        )
        out, done = [], 0
        for at, on, pitch, velocity in [*events, (seconds, -1, 0, 0)]:
            until = round(at * LISTENING_RATE)
            if until > done:
                out.append(self.synth.get_samples(until - done).reshape(-1, 2).mean(axis=1))
                done = until
            if on == 1:
                self.synth.noteon(channel, pitch, velocity)
            elif on == 0:
                self.synth.noteoff(channel, pitch)
        return (np.concatenate(out) / 32768).astype(np.float32)


def record(stage: Stage, performance: Performance, seed: int) -> tuple[list[Player], Mapping[str, float]]:
    """The performance as the tracker gets it, players and guide weights: tracks with bleed, room and noise, or all
    mixed into one; sometimes with applause at the end."""
    rng = np.random.default_rng(10_000_000 + seed)
    claps = float(rng.uniform(2, 7)) if rng.random() < 0.2 else 0.0
    seconds = performance.over + 1.0 + claps
    tracks = []
    for name, program, notes in performance.tracks:
        x = stage.play(program, notes, seconds)
        level = float(np.sqrt((x**2).mean())) or 1.0
        tracks.append((name, x * np.float32(0.05 / level * 10 ** (rng.uniform(-7, 7) / 20))))
    if claps:
        clapping = _applause(rng, len(tracks[0][1]), performance.over + rng.uniform(-0.5, 0.8))
        tracks = [(n, x + np.float32(rng.uniform(0.02, 1)) * clapping) for n, x in tracks]
    total = np.sum([x for _, x in tracks], axis=0)
    room = _room(rng, total)
    noise = np.float32(10 ** (rng.uniform(-85, -60) / 20))

    def hiss() -> Samples:
        return noise * rng.standard_normal(len(total)).astype(np.float32)

    if rng.random() < 0.3:
        mix = total + np.float32(rng.uniform(0, 0.5)) * room + hiss()
        return guided(_heard("mix", mix), Player("part", *percussive.hear(mix)))
    bleed = np.float32(10 ** (rng.uniform(-40, -18) / 20)) if rng.random() < 0.5 else np.float32(0)
    tracks = [(n, x + bleed * (total - x)) for n, x in tracks]
    if rng.random() < 0.5:
        tracks.append(("room", room))
    while len(tracks) > 2 and rng.random() < 0.2:  # somebody's track is missing
        tracks.pop(int(rng.integers(len(tracks))))
    return [_heard(n, x + hiss()) for n, x in tracks], {}


def _applause(rng: np.random.Generator, count: int, start: float) -> Samples:
    """Many hands from ``start`` seconds on, as bursts of noise."""
    out = np.zeros(count, dtype=np.float32)
    burst = np.exp(-np.arange(400) / 60).astype(np.float32)
    for t in rng.uniform(start, count / LISTENING_RATE, int(60 * max(0.1, count / LISTENING_RATE - start))):
        k = int(t * LISTENING_RATE)
        n = min(len(burst), count - k)
        out[k : k + n] += rng.uniform(0.1, 1) * burst[:n] * rng.standard_normal(n).astype(np.float32) * 0.3
    return out


def _room(rng: np.random.Generator, x: Samples) -> Samples:
    """A far microphone: late, with a tail that dies away."""
    n = int(rng.uniform(0.15, 0.8) * LISTENING_RATE)
    tail = rng.standard_normal(n) * np.exp(-5 * np.arange(n) / n) * rng.uniform(0.02, 0.08)
    tail[0] = 1.0
    delay = int(rng.uniform(0.004, 0.025) * LISTENING_RATE)
    wet = fftconvolve(x, tail.astype(np.float32))[: len(x)]
    return np.concatenate([np.zeros(delay, dtype=np.float32), wet])[: len(x)].astype(np.float32)


def _heard(name: str, x: Samples) -> Player:
    found = evidence([x])
    return Player(name, found, attacks.find(x, found))
