"""Made-up songs of six styles whose chords are known beat by beat: for measuring how chords are found.

Each song is played by the sampled instruments (or the built-in voices) with a bass, drums, and a melody that has tones
beside the chord; the tempo wanders. Nothing in the product is fitted to them but what ``bench/chords.py`` says.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from core.harmony.chords import Chord
from core.instruments.stream import Player, render_block
from core.instruments.strokes import strokes_of
from core.notes import Note, ScoreNote, to_seconds
from core.tempomap import Meters, TempoMap

RATE = 22_050
Rng = np.random.Generator
#: A chord's place in the key (semitones above the tonic) and its quality; progressions of them, a bar or half a bar each.
Degree = tuple[int, str]
MAJOR: list[list[Degree]] = [
    [(0, ""), (9, "m"), (5, ""), (7, "")],
    [(0, ""), (7, ""), (9, "m"), (5, "")],
    [(0, ""), (5, ""), (0, ""), (7, "")],
    [(9, "m"), (5, ""), (0, ""), (7, "")],
    [(0, ""), (2, "m"), (5, ""), (7, "7")],
    [(0, ""), (4, "m"), (5, ""), (5, "m")],
]
MINOR: list[list[Degree]] = [
    [(0, "m"), (8, ""), (3, ""), (10, "")],
    [(0, "m"), (5, "m"), (7, ""), (0, "m")],
    [(0, "m"), (10, ""), (8, ""), (7, "7")],
]
JAZZ: list[list[Degree]] = [
    [(2, "m7"), (7, "7"), (0, "maj7"), (9, "7")],
    [(0, "maj7"), (9, "m7"), (2, "m7"), (7, "7")],
    [(0, "m7"), (5, "m7"), (2, "dim"), (7, "7")],
    [(4, "m7"), (9, "7"), (2, "m7"), (7, "7")],
]


@dataclass
class Song:
    """``tracks`` by name, mono float64 at :data:`RATE`; ``chords``: one a beat of ``tempo_map``."""

    tracks: dict[str, NDArray[np.float64]]
    tempo_map: TempoMap
    chords: list[Chord]


@dataclass
class Score:
    """Notes by name of a track, with who plays them: instrument and General MIDI program."""

    players: dict[str, tuple[str, int]]
    notes: dict[str, list[ScoreNote]] = field(default_factory=dict)

    def add(self, track: str, bar: int, at: float, length: float, pitch: int, velocity: int) -> None:
        self.notes.setdefault(track, []).append(ScoreNote(bar, at, length, pitch, velocity, 0))


def _near(pitch_class: int, low: int) -> int:
    return low + (pitch_class - low) % 12


def _root(chord: Chord, low: int) -> int:
    assert chord.root is not None
    return _near(chord.root, low)


def _tones(chord: Chord, low: int) -> list[int]:
    return sorted(_near(c, low) for c in chord.classes)


def _melody(s: Score, rng: Rng, bar: int, quarters: float, chord: Chord, scale: list[int], step: float) -> None:
    """A line whose notes are mostly of the chord on the beat, and of the scale between."""
    at = 0.0
    while at < quarters - 1e-9:
        length = step * int(rng.choice([1, 2, 3]))
        if rng.random() < 0.75:
            classes = chord.classes if at % 1 == 0 and rng.random() < 0.8 else scale
            pitch = _near(int(rng.choice(classes)), 67)
            s.add("melody", bar, at, min(length, quarters - at) * 0.9, pitch, int(rng.integers(60, 95)))
        at += length


def _drums(s: Score, rng: Rng, bar: int, rows: dict[int, list[float]]) -> None:
    for key, places in rows.items():
        for at in places:
            s.add("drums", bar, at, 0.1, key, int(rng.integers(60, 105)))


# ---- the styles: each fills one bar, whose chords stand at quarters


def ballad(s: Score, rng: Rng, bar: int, chords: list[tuple[float, float, Chord]]) -> None:
    for at, length, chord in chords:
        tones = _tones(chord, 55)
        for k in range(int(2 * length)):
            s.add("piano", bar, at + k / 2, 0.9, tones[k % len(tones)] + 12 * (k % 4 == 3), int(rng.integers(45, 75)))
        s.add("bass", bar, at, length * 0.9, _root(chord, 33), 80)
    _drums(s, rng, bar, {36: [0, 2.5], 38: [1, 3], 42: [0, 0.5, 1, 1.5, 2, 2.5, 3, 3.5]})


def rock(s: Score, rng: Rng, bar: int, chords: list[tuple[float, float, Chord]]) -> None:
    for at, length, chord in chords:
        root = _root(chord, 40)
        strummed = [root, root + 7, root + 12, *_tones(chord, 55)]
        for k in range(int(2 * length)):
            if k % 2 == 0 or rng.random() < 0.7:
                for i, pitch in enumerate(strummed):
                    s.add("guitar", bar, at + k / 2 + 0.01 * i, 0.42, pitch, int(rng.integers(60, 100)))
            s.add("bass", bar, at + k / 2, 0.4, _root(chord, 28), int(rng.integers(80, 110)))
    _drums(
        s,
        rng,
        bar,
        {36: [0, 1.5, 2], 38: [1, 3], 42: [0, 0.5, 1, 1.5, 2, 2.5, 3, 3.5], 49: [0] if bar % 8 == 1 else []},
    )


def waltz(s: Score, rng: Rng, bar: int, chords: list[tuple[float, float, Chord]]) -> None:
    _, _, chord = chords[0]
    bass = _root(chord, 36)
    fifth = bass - 5 if bass > 40 else bass + 7
    s.add("bass", bar, 0, 0.9, bass if bar % 2 else fifth, 85)
    for at in (1, 2):
        for pitch in _tones(chord, 57):
            s.add("piano", bar, at, 0.6, pitch, int(rng.integers(50, 75)))
    _drums(s, rng, bar, {36: [0], 37: [1, 2], 51: [0, 1, 2]})


def swing(s: Score, rng: Rng, bar: int, chords: list[tuple[float, float, Chord]]) -> None:
    for at, length, chord in chords:
        classes = chord.classes
        walk = [
            classes[0],
            classes[int(rng.integers(1, 3))],
            classes[2],
            (classes[0] + int(rng.choice([-1, 1, 2, 5]))) % 12,
        ]
        for k in range(int(length)):
            s.add("bass", bar, at + k, 0.9, _near(walk[k], 33), int(rng.integers(75, 100)))
        for place in sorted(rng.choice([0, 2 / 3, 1 + 2 / 3, 2 + 2 / 3, 3], 2, replace=False)):
            if place < length:
                for c in classes[1:]:  # the root is the bass's
                    s.add(
                        "piano",
                        bar,
                        at + float(place),
                        float(rng.choice([0.3, 0.9])),
                        _near(c, 58),
                        int(rng.integers(50, 80)),
                    )
    _drums(
        s, rng, bar, {51: [0, 1, 1 + 2 / 3, 2, 3, 3 + 2 / 3], 44: [1, 3], 38: [2 + 2 / 3] if rng.random() < 0.3 else []}
    )


def folk(s: Score, rng: Rng, bar: int, chords: list[tuple[float, float, Chord]]) -> None:
    for at, length, chord in chords:
        tones = [_root(chord, 43), *_tones(chord, 55)]
        order = [0, 2, 3, 1, 3, 2] if len(tones) > 3 else [0, 1, 2, 1, 2, 1]
        for k in range(int(2 * length)):
            s.add("guitar", bar, at + k / 2, 1.0, tones[order[k % 6] % len(tones)], int(rng.integers(55, 85)))
        s.add("bass", bar, at, length * 0.8, _root(chord, 33), 70)
    _drums(s, rng, bar, {70: [0, 0.5, 1, 1.5, 2, 2.5], 36: [0]})


def pop(s: Score, rng: Rng, bar: int, chords: list[tuple[float, float, Chord]]) -> None:
    for at, length, chord in chords:
        for pitch in _tones(chord, 55):
            s.add("pad", bar, at, length, pitch, 70)
        for place in (0, 0.75, 1.5):
            if place < length:
                s.add("bass", bar, at + place, 0.6, _root(chord, 33), int(rng.integers(75, 100)))
                for pitch in _tones(chord, 60) if rng.random() < 0.5 else []:
                    s.add("keys", bar, at + place, 0.25, pitch, int(rng.integers(60, 90)))
    _drums(s, rng, bar, {36: [0, 1, 2, 3], 39: [1, 3], 46: [0.5, 1.5, 2.5, 3.5]})


Fill = Callable[[Score, Rng, int, list[tuple[float, float, Chord]]], None]


@dataclass(frozen=True)
class Style:
    meter: str
    fill: Fill
    #: The chance that a bar has two chords.
    halves: float
    #: Instrument and General MIDI program by name of the track; all have a bass, drums and a melody beside these.
    players: dict[str, tuple[str, int]]
    jazz: bool = False
    tempo: tuple[float, float] = (80, 130)


def _players(bass: int, melody: int, **others: tuple[str, int]) -> dict[str, tuple[str, int]]:
    return {**others, "bass": ("bass", bass), "drums": ("drums", 0), "melody": ("strings", melody)}


STYLES = {
    "ballad": Style("4/4", ballad, 0.2, _players(33, 66, piano=("keys", 0)), tempo=(60, 90)),
    "rock": Style("4/4", rock, 0.3, _players(34, 54, guitar=("pluck", 29)), tempo=(100, 160)),
    "waltz": Style("3/4", waltz, 0.0, _players(32, 40, piano=("keys", 0)), tempo=(110, 180)),
    "swing": Style("4/4", swing, 0.25, _players(32, 65, piano=("keys", 0)), jazz=True, tempo=(110, 200)),
    "folk": Style("6/8", folk, 0.0, _players(32, 40, guitar=("pluck", 25)), tempo=(80, 120)),
    "pop": Style("4/4", pop, 0.3, _players(38, 80, pad=("pad", 89), keys=("keys", 4)), tempo=(90, 128)),
}
_SCALE, _SCALE_MINOR = (0, 2, 4, 5, 7, 9, 11), (0, 2, 3, 5, 7, 8, 10)


def make(style_name: str, seed: int, sound_set: tuple | None, bars: int = 24) -> Song:
    """A song of a style."""
    style = STYLES[style_name]
    rng = np.random.default_rng((seed, *style_name.encode()))
    tonic, minor = int(rng.integers(12)), bool(rng.random() < 0.35)
    progressions = JAZZ if style.jazz else (MINOR if minor else MAJOR)
    scale = [(tonic + s) % 12 for s in (_SCALE_MINOR if minor and not style.jazz else _SCALE)]
    meters = Meters.of((1, style.meter))
    quarters = meters.meter_at(1).quarters
    tempo_map = _wandering(rng, meters, float(rng.uniform(*style.tempo)), bars)
    s = Score(style.players)
    by_place: list[tuple[int, float, Chord]] = []
    progression, k = progressions[int(rng.integers(len(progressions)))], 0
    for bar in range(1, bars + 1):
        if bar % 8 == 1:
            progression, k = progressions[int(rng.integers(len(progressions)))], 0
        two = quarters == 4 and rng.random() < style.halves
        spans = [(0.0, 2.0), (2.0, 2.0)] if two else [(0.0, quarters)]
        chords = []
        for at, length in spans:
            step, quality = progression[k % len(progression)]
            k += 1
            chords.append((at, length, Chord((tonic + step) % 12, quality)))
            by_place.append((bar, at, chords[-1][2]))
        style.fill(s, rng, bar, chords)
        _, length, chord = chords[0]
        _melody(s, rng, bar, length, chord, scale, 0.5)
    return Song(_played(s, rng, tempo_map, sound_set), tempo_map, _by_beat(tempo_map, by_place))


def _wandering(rng: Rng, meters: Meters, bpm: float, bars: int) -> TempoMap:
    """A tempo that wanders by some percent."""
    beats = TempoMap.steady(bpm, meters, start=1.0, bars=bars).beats().seconds
    walk = np.cumsum(rng.normal(0, 0.008, len(beats) - 1))
    lengths = np.diff(beats) * np.exp(np.clip(walk - walk.mean(), -0.08, 0.08))
    return TempoMap.from_beats(beats[0] + np.concatenate([[0.0], np.cumsum(lengths)]), meters=meters)


def _played(s: Score, rng: Rng, tempo_map: TempoMap, sound_set: tuple | None) -> dict[str, NDArray[np.float64]]:
    frames = round((float(tempo_map.seconds[-1]) + 1.5) * RATE)
    out = {}
    for name, (instrument, program) in s.players.items():
        notes = [
            Note(max(0.0, n.start + float(rng.normal(0, 0.008))), n.end, n.pitch, n.velocity)
            for n in to_seconds(tempo_map, s.notes.get(name, []))
        ]
        notes = [n for n in notes if n.end > n.start]
        x = render_block(strokes_of(notes, instrument), Player(instrument, program, sound_set), RATE, 0, frames)
        out[name] = x.mean(axis=1).astype(np.float64)
    return out


def _by_beat(tempo_map: TempoMap, by_place: list[tuple[int, float, Chord]]) -> list[Chord]:
    """The chord that sounds at each felt beat."""
    starts = np.array([float(tempo_map.meters.bar_quarters(bar)) + at for bar, at, _ in by_place])
    quarters = tempo_map.quarters_at(tempo_map.beats().seconds)
    return [by_place[max(0, int(np.searchsorted(starts, q + 1e-6)) - 1)][2] for q in quarters]
