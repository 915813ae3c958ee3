"""From a performance to what a studio gets: tracks with bleed, rooms and noise, and a mix of them.

Sounds: General MIDI sound sets from Debian, played by FluidSynth (LGPL), all needed only here. For learning:
fluid-soundfont-gm (MIT), timgm6mb-soundfont (GPL 2), csound-soundfont (public domain), and the drums of
avldrums.lv2-soundfont (CC BY-SA 3.0). For evaluation others: one General MIDI set more (MIT) and that package's second
drum kit.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from core.listening.rates import LISTENING_RATE as RATE
from training import effects
from training.compose import Note, Performance

Samples = NDArray[np.float32]
Rng = np.random.Generator
SOUNDS = Path("/usr/share/sounds")
LEARNING = {
    "sf2/FluidR3_GM.sf2": 0.45,
    "sf2/TimGM6mb.sf2": 0.3,
    "sf2/sf_GMbank.sf2": 0.25,
}
EVALUATION = {"sf3/*_General_Lite.sf3": 1.0}
#: Drum kits alone: the first for learning, the second for evaluation.
DRUMS = ("sf2/Black_Pearl_4_LV2.sf2", "sf2/Red_Zeppelin_4_LV2.sf2")
KICKS, SNARES, CYMBALS = (35, 36), (37, 38, 39, 40), (42, 44, 46, 49, 51, 52, 53, 55, 57, 59)


class Instruments:
    """One synthesiser with several sound sets, playing one track after another at the listening rate."""

    def __init__(self, evaluation: bool = False) -> None:
        import fluidsynth

        self.synth = fluidsynth.Synth(gain=0.5, samplerate=float(RATE))
        self.synth.setting("synth.reverb.active", 0)
        self.synth.setting("synth.chorus.active", 0)
        sets = EVALUATION if evaluation else LEARNING
        self.fonts = [self.synth.sfload(str(next(SOUNDS.glob(s)))) for s in sets]
        self.odds = np.array(list(sets.values()))
        self.drums = self.synth.sfload(str(SOUNDS / DRUMS[int(evaluation)]))

    def play(self, rng: Rng, program: int, notes: list[Note], seconds: float) -> Samples:
        """A track in mono; as long as ``seconds``. Kits and sound sets by chance."""
        font = int(rng.choice(self.fonts, p=self.odds))
        channel = 9 if program < 0 else 0
        self.synth.system_reset()
        if program < 0:
            kit = int(rng.choice([0, 0, 0, 8, 16, 24, 25, 32, 40]))
            if rng.random() < 0.35:
                font, kit = self.drums, 0
            if font == self.drums:
                self.synth.program_select(channel, font, 0, 0)
            elif self.synth.program_select(channel, font, 128, kit) != 0:
                self.synth.program_select(channel, font, 128, 0)
        else:
            self.synth.program_select(channel, font, 0, program)
        events = sorted(
            [(n.start, 1, n.pitch, n.velocity) for n in notes] + [(min(n.end, seconds), 0, n.pitch, 0) for n in notes]
        )
        out, done = [], 0
        for at, on, pitch, velocity in [*events, (seconds, -1, 0, 0)]:
            until = round(at * RATE)
            if until > done:
                out.append(self.synth.get_samples(until - done).reshape(-1, 2).mean(axis=1))
                done = until
            if on == 1:
                self.synth.noteon(channel, pitch, velocity)
            elif on == 0:
                self.synth.noteoff(channel, pitch)
        return (np.concatenate(out) / 32768).astype(np.float32)


def _split(tracks: list[tuple[str, int, list[Note]]]) -> list[tuple[str, int, list[Note]]]:
    """Drums as close microphones hear them: kick, snare, the rest."""
    out = []
    for name, program, notes in tracks:
        if program >= 0:
            out.append((name, program, notes))
            continue
        groups = (
            ("kick", [n for n in notes if n.pitch in KICKS]),
            ("snare", [n for n in notes if n.pitch in SNARES]),
            ("overhead", [n for n in notes if n.pitch not in KICKS + SNARES]),
        )
        out += [(g, -1, own) for g, own in groups if len(own) > 3]
    return out


def record(stage: Instruments, performance: Performance, seed: int) -> tuple[list[Samples], Samples]:
    """The tracks as close microphones and rooms give them, and a finished mix, all of one length, at the listening
    rate. Drums come as one track or as kick, snare and overheads."""
    rng = np.random.default_rng(11_000_000 + seed)
    claps = float(rng.uniform(2, 7)) if rng.random() < 0.12 else 0.0
    seconds = performance.over + 1.0 + claps
    plan = performance.tracks
    # drum lines of one kit share one microphone set
    drums = [t for t in plan if t[1] < 0]
    if len(drums) > 1:
        merged = ("drums", -1, sorted((n for _, _, notes in drums for n in notes), key=lambda n: n.start))
        plan = [t for t in plan if t[1] >= 0] + [merged]
    if rng.random() < 0.6:
        plan = _split(plan)
    state = int(rng.integers(1 << 31))  # one kit for all of its microphones
    dry: list[tuple[str, int, Samples]] = []
    for name, program, notes in plan:
        own = np.random.default_rng(state) if program < 0 else rng
        x = stage.play(own, program, notes, seconds)
        if np.abs(x).max() < 1e-4:
            continue
        x = x * np.float32(0.05 / effects.level(x))
        guitar = 24 <= program <= 31
        if (
            (guitar and rng.random() < (0.75 if program > 27 else 0.25))
            or (program in range(32, 40) and rng.random() < 0.25)
            or rng.random() < 0.03
        ):
            x = effects.amplifier(rng, x)
        if rng.random() < 0.5:
            x = effects.equaliser(rng, x)
        if rng.random() < 0.4:
            x = effects.compressor(rng, x)
        if rng.random() < 0.3:
            x = effects.room(rng, x, float(rng.uniform(0.02, 0.5)))
        x = x * np.float32(0.05 / effects.level(x) * 10 ** (rng.uniform(-9, 7) / 20))
        dry.append((name, program, x))
    if not dry:
        raise ValueError("a performance without a sound")
    if claps:
        clapping = effects.applause(rng, len(dry[0][2]), performance.over + rng.uniform(-0.5, 0.8))
        dry = [(n, p, x + np.float32(rng.uniform(0.02, 1)) * clapping) for n, p, x in dry]
    total = np.sum([x for _, _, x in dry], axis=0)
    far = effects.room(rng, total, float(rng.uniform(0.1, 1.2)), float(rng.uniform(0.003, 0.025)))
    mix = total + np.float32(rng.choice([0.0, rng.uniform(0, 0.6)])) * far
    if rng.random() < 0.5:
        mix = effects.equaliser(rng, mix)
    if rng.random() < 0.45:
        mix = effects.limiter(rng, mix) if rng.random() < 0.6 else effects.compressor(rng, mix)
    if rng.random() < 0.12:
        mix = effects.band_limit(rng, mix)
    mix = mix / (effects.level(mix) + 1e-9)
    mix = mix + np.float32(10 ** (rng.uniform(-75, -22 if rng.random() < 0.3 else -45) / 20)) * effects.noise(
        rng, len(mix)
    )
    if rng.random() < 0.3:
        mix = effects.codec(rng, mix.astype(np.float32))
    bleed = np.float32(10 ** (rng.uniform(-40, -12) / 20)) if rng.random() < 0.6 else np.float32(0)
    hiss = 10 ** (rng.uniform(-85, -50) / 20)
    floor = effects.noise(rng, len(total))
    tracks = []
    for _, _, x in dry:
        y = x + bleed * (far if rng.random() < 0.5 else total - x)
        if rng.random() < 0.06:
            y = effects.clip(rng, y)
        tracks.append((y + np.float32(0.05 * hiss) * np.roll(floor, int(rng.integers(len(y))))).astype(np.float32))
    if rng.random() < 0.35:
        tracks.append(far)
    return tracks, mix.astype(np.float32)
