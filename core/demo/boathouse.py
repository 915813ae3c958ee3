"""The main demo: a folk quintet recorded in a boathouse, played freely, for about a minute and three quarters.

"Lantern on the Slipway" in D minor, 4/4: a stick count-in and a pickup, drifting from 96 to 104 and back,
one 2/4 bar (16), a fill where the drum leaves the beat (20), four bars without drum (25 to 28), a
ritardando into a fermata (40, 41) and an a tempo, and an ending that comes apart.
"""

from __future__ import annotations

import numpy as np

from core.demo.stage import Performance, Performer, Stroke, played, room, to_track
from core.instruments import voices
from core.instruments.render import render_notes
from core.tempomap import Meters, TempoMap

TITLE = "Lantern on the Slipway"
RATE = 48_000
BARS = 43
SHORT_BAR, FILL_BAR, SILENT_BARS, SLOW_BAR, HELD_BAR = 16, 20, range(25, 29), 40, 41
METERS = Meters.of((1, "4/4"), (SHORT_BAR, "2/4"), (SHORT_BAR + 1, "4/4"))
#: Root pitches of the chords, a bar each, over eight bars; minor thirds where True.
CHORDS = ((38, True), (38, True), (34, False), (36, False), (38, True), (41, False), (43, True), (33, False))
TUNE = (62, 65, 69, 67, 65, 64, 62, 60, 58, 62, 65, 70, 67, 64, 60, 64, 69, 72, 74, 72, 69, 65, 64, 61)


def truth() -> TempoMap:
    """The beats as meant, from the first stick on."""
    rng = np.random.default_rng(41)
    first = -4  # the count-in's bar
    last = int(METERS.beat_of_quarters(METERS.bar_quarters(BARS + 1)))
    index = np.arange(first, last + 1)
    bar = METERS.bars_at(METERS.quarters_of_beat(index))
    arch = 96 + 7.5 * np.sin(np.pi * np.clip((bar - 1) / (SLOW_BAR - 1), 0, 1)) ** 1.5
    drift = np.cumsum(rng.standard_normal(len(index)))
    bpm = arch + 0.12 * (drift - np.linspace(drift[0], drift[-1], len(index)))
    seconds = 60 / bpm
    opening = int(METERS.beat_of_quarters(METERS.bar_quarters(SLOW_BAR)))
    i = opening - first
    seconds[i : i + 4] *= (1.06, 1.16, 1.3, 1.5)  # ritardando
    seconds[i + 4] *= 2.6  # fermata
    return TempoMap.from_beats(1.9 + np.concatenate([[0], np.cumsum(seconds[:-1])]), first, METERS)


def _bars() -> list[tuple[int, float, float]]:
    """Bar number, its start and its length in quarters."""
    return [(b, float(METERS.bar_quarters(b)), METERS.meter_at(b).quarters) for b in range(1, BARS + 1)]


def drum_strokes(rng: np.random.Generator) -> tuple[Stroke, ...]:
    out = []
    for bar, q, length in _bars():
        if bar in SILENT_BARS or bar > BARS - 1:
            continue
        if bar == HELD_BAR:
            out += [Stroke(q, 45, level=0.7), *(Stroke(q + k, 62, level=0.5) for k in (2.0, 3.0))]
            continue
        if bar == FILL_BAR:  # a run of dotted eighths that lands on no beat but the first
            out += [Stroke(q + 0.75 * k, 45 if k % 2 else 62, level=0.75) for k in range(5)]
            continue
        out += [Stroke(q + k, 45, level=0.9 if k == 0 else 0.55) for k in (0.0, 2.0) if k < length]
        out += [Stroke(q + k, 62, level=0.7) for k in (1.0, 3.0) if k < length]
        out += [Stroke(q + k + 0.5, 64, level=0.28) for k in range(int(length)) if rng.random() < 0.7]
    return tuple(out)


def _boots() -> tuple[Stroke, ...]:
    return tuple(
        Stroke(q + k, 30, level=0.8 if k == 0 else 0.5)
        for bar, q, length in _bars()
        if bar > 8 and bar not in SILENT_BARS and bar not in (FILL_BAR, HELD_BAR) and bar < BARS - 1
        for k in (0.0, 2.0)
        if k < length
    )


def _bass() -> tuple[Stroke, ...]:
    out = []
    for bar, q, length in _bars():
        root, _ = CHORDS[(bar - 1) % 8]
        if bar == HELD_BAR:
            out.append(Stroke(q, root, 1.0, 0.8))
            continue
        out.append(Stroke(q, root, 1.8, 0.85))
        if length > 2:
            out += [
                Stroke(q + 2, root + 7 if root < 40 else root - 5, 1.4, 0.55),
                Stroke(q + 3.5, root, 0.4, 0.5),
            ]
    return tuple(out)


def dulcimer_strokes(rng: np.random.Generator) -> tuple[Stroke, ...]:
    out = [Stroke(-1.0, 69, 0.5, 0.6), Stroke(-0.5, 67, 0.5, 0.6)]  # the pickup
    for bar, q, length in _bars():
        if bar == HELD_BAR:
            out.append(Stroke(q, 74, 1, 0.8))
            continue
        for k in (0.5 * n for n in range(int(2 * length))):
            if k % 1 == 0 or rng.random() < 0.75:
                pitch = TUNE[int(bar * 3 + k * 2) % len(TUNE)]
                out.append(Stroke(q + k, pitch, 0.5, 0.75 if k == 0 else 0.6 if k % 1 == 0 else 0.42))
    return tuple(out)


def squeezebox_strokes() -> tuple[Stroke, ...]:
    out = []
    for bar, q, length in _bars():
        if bar <= 4:
            continue
        root, minor = CHORDS[(bar - 1) % 8]
        hold = 1.0 if bar == HELD_BAR else length - 0.15
        out += [Stroke(q, root + 24 + step, hold, 0.55) for step in (0, 3 if minor else 4, 7)]
    return tuple(out)


def perform() -> Performance:
    """Play and record it; the same samples on every run."""
    rng = np.random.default_rng(7)
    meant = truth()
    loose = METERS.bar_quarters(BARS)
    band = [
        Performer("sticks", voices.stick, tuple(Stroke(float(k), 80, level=0.7) for k in range(-4, 0)), 0.0, 0.003),
        Performer("drum", voices.frame_drum, drum_strokes(rng), 0.0, 0.004),
        Performer("boots", voices.boot, _boots(), 0.004, 0.005),
        Performer("bass", voices.bass, _bass(), 0.008, 0.005),
        Performer("dulcimer", voices.dulcimer, dulcimer_strokes(rng), -0.003, 0.006),
        Performer("squeezebox", voices.squeezebox, squeezebox_strokes(), 0.010, 0.008),
    ]
    frames = round((float(meant.seconds[-1]) + 2.5) * RATE)
    dry = {}
    for p in band:
        notes = played(p, meant, rng)
        if p.name in ("bass", "dulcimer", "squeezebox"):  # the last bar comes apart
            ends = float(meant.seconds_at(loose))
            notes = [
                n
                if n.start < ends + 0.02
                else type(n)(n.start + abs(rng.normal(0, 0.09)), n.end + 0.6, n.pitch, n.velocity)
                for n in notes
            ]
        dry[p.name] = render_notes(notes, p.voice, RATE, frames, rng)
    pair = room([(x, 0.7 if n == "sticks" else 0.5) for n, x in dry.items()], RATE, (0.011, 0.013), rng)
    low = dry["drum"] + 0.9 * dry["boots"] + 0.25 * dry["sticks"]
    mono = pair.mean(axis=1)
    tracks = {
        "Drum and boots": to_track(low + 0.02 * mono, seed=1),
        "Double bass": to_track(dry["bass"] + 0.03 * mono, seed=2),
        "Hammered dulcimer": to_track(dry["dulcimer"] + 0.02 * mono, seed=3),
        "Squeezebox": to_track(dry["squeezebox"] + 0.02 * mono, 0.6, seed=4),
        "Room pair": to_track(pair, 0.6, seed=5),
    }
    return Performance(TITLE, RATE, meant, tracks)
