"""Two further demos: a rubato solo as MIDI, and a machine's steady rhythm that starts late."""

from __future__ import annotations

import numpy as np

from core.demo.stage import Performance, Performer, Stroke, played, to_track
from core.instruments import voices
from core.instruments.render import render_notes
from core.tempomap import Meters, TempoMap

MACHINE_BPM = 117.37
MACHINE_START = 2.413


def rubato() -> Performance:
    """ "Letter to the Ferryman": a keyboard solo in 3/4, about 80, leaning into every phrase and held once."""
    rng = np.random.default_rng(19)
    meters, bars = Meters.of((1, "3/4")), 32
    index = np.arange(-1, bars * 3 + 1)
    phrase = (index % 24) / 24
    bpm = (
        78
        + 12 * np.sin(np.pi * phrase)
        - 16 * np.exp(-(((phrase - 0.97) / 0.05) ** 2))
        + rng.normal(0, 0.8, len(index))
    )
    seconds = 60 / bpm
    seconds[np.flatnonzero(index == 47)] *= 1.9  # held before the second half
    truth = TempoMap.from_beats(0.8 + np.concatenate([[0], np.cumsum(seconds[:-1])]), -1, meters)
    scale = (60, 64, 67, 72, 71, 67, 65, 69, 62, 65, 71, 67)
    strokes = [Stroke(-1.0, 67, 0.9, 0.55)]
    for bar in range(bars):
        q = bar * 3.0
        root = (48, 45, 41, 43)[bar % 4]
        strokes += [
            Stroke(q, root, 2.6, 0.75),
            Stroke(q + 1, root + 12, 0.9, 0.4),
            Stroke(q + 2, root + 16, 0.9, 0.42),
        ]
        for k in (0.0, 1.0, 1.5, 2.0, 2.5):
            if k in (0.0, 1.0, 2.0) or rng.random() < 0.5:
                pitch = scale[int(bar * 5 + k * 2) % len(scale)] + 7 * (bar % 8 == 6)
                strokes.append(Stroke(q + k, pitch, 0.5 if k % 1 else 0.9, 0.72 if k == 0 else 0.55))
    notes = played(Performer("keys", voices.keys, tuple(strokes), 0.0, 0.006), truth, rng)
    return Performance("Letter to the Ferryman", 48_000, truth, notes=sorted(notes, key=lambda n: (n.start, n.pitch)))


def machine() -> Performance:
    """ "Tide Table": an exact 117.37 in 4/4 that starts late, with a break."""
    rng = np.random.default_rng(23)
    rate, bars = 44_100, 30
    truth = TempoMap.steady(MACHINE_BPM, Meters.of((1, "4/4")), MACHINE_START, bars)
    kick, hat, tone = [], [], []
    for bar in range(bars):
        q = bar * 4.0
        if not 16 <= bar < 20:
            kick += [Stroke(q + k, 36, level=0.9) for k in (0.0, 2.0)] + [Stroke(q + 2.5, 36, level=0.6)] * (bar % 2)
        hat += [Stroke(q + k / 2, 90, level=0.6 if k % 2 == 0 else 0.35) for k in range(8)]
        root = (45, 45, 41, 43)[bar % 4]
        tone += [Stroke(q + k, root + 12 * (k == 3.0), level=0.7 if k == 0 else 0.5) for k in (0.0, 1.0, 1.5, 3.0)]
    frames = round((float(truth.seconds[-1]) + 1.0) * rate)
    tracks = {}
    for name, voice, strokes in (
        ("Thump", voices.thump, kick),
        ("Hiss", voices.hiss, hat),
        ("Beep", voices.beep, tone),
    ):
        notes = played(Performer(name, voice, tuple(strokes), 0.0, 0.0), truth, rng)
        tracks[name] = to_track(render_notes(notes, voice, rate, frames, rng), hiss=0.0)
    return Performance("Tide Table", rate, truth, tracks)
