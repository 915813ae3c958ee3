"""Rock, punk and metal, made up from a seed: riffs, double kick, blast beats, half-time passages, at up to 220.

How such music is put together is common practice: sections of four or eight bars, one drum pattern and one riff each,
the pulse going on through patterns that sound half or twice as fast.
"""

from __future__ import annotations

import numpy as np

from training.score import Score, ScoreNote, ScoreTrack

KICK, SNARE, CRASH, RIDE, BELL, HAT, OPEN, CHINA = 36, 38, 49, 51, 53, 42, 46, 52
TOMS = (50, 48, 47, 45, 43, 41)
GUITARS, BASSES, LEADS = (29, 30, 30, 30, 28, 27), (33, 34, 36, 38), (29, 30, 81, 80, 56, 16)
#: Drum patterns: how often each is chosen in rock and in metal.
PATTERNS = {
    "rock": (4, 1), "four": (1, 0.3), "double": (0.4, 4), "half": (1, 2), "skank": (1, 2), "blast": (0, 1.6),
    "toms": (0.5, 0.7), "gallop": (0.2, 1), "break": (0.3, 1.2), "offbeat": (0.8, 0.2), "ride": (1.5, 0.8),
}  # fmt: skip
#: A bar of a riff: (place, length, step of pitch) of its notes, and the name of its rhythm.
Bar = tuple[list[tuple[float, float, int]], str]
RHYTHMS = ("eighths", "sixteenths", "gallop", "chug", "syncopated", "long", "tremolo", "offs")


def score(seed: int) -> Score:
    rng = np.random.default_rng(seed)
    metal = rng.random() < 0.6
    beats = int(rng.choice([4, 3, 5, 6, 7], p=[0.86, 0.07, 0.03, 0.03, 0.01]))
    middle = 168 if metal else 138
    bpm = float(np.clip(middle * np.exp(0.18 * rng.standard_normal()), 84, 222))
    root = int(rng.integers(28, 41))
    scale = [0, 1, 3, 5, 7, 8, 10] if metal and rng.random() < 0.5 else [0, 2, 3, 5, 7, 8, 10]
    drums, guitar, second, bass, lead = (
        ScoreTrack("drums", -1),
        ScoreTrack("guitar", int(rng.choice(GUITARS))),
        ScoreTrack("guitar 2", int(rng.choice(GUITARS))),
        ScoreTrack("bass", int(rng.choice(BASSES))),
        ScoreTrack("lead", int(rng.choice(LEADS))),
    )
    weights = np.array([w[int(metal)] for w in PATTERNS.values()], dtype=float)
    sections = [
        (str(rng.choice(list(PATTERNS), p=weights / weights.sum())), _riff(rng, scale, beats), rng.random())
        for _ in range(4)
    ]
    bars, bar, at = [], 0, 0.0
    want = int(np.ceil(60 * bpm / 60 / beats)) + 8
    order = [0, 1, 0, 1, 2, 0, 3, 1]
    k = 0
    while bar < want:
        pattern, riff, mood = sections[order[k % len(order)] if k else int(rng.integers(4))]
        count = int(rng.choice([4, 8, 8]))
        for i in range(count):
            length = beats
            if rng.random() < 0.012 and beats > 3:
                length = int(rng.choice([beats - 2, beats - 1, beats + 2]))
            last = i == count - 1
            if not (k == 0 and mood < 0.25):  # some begin with the guitar alone
                _drums(rng, drums, at, length, pattern, i == 0, last, metal)
            _play(rng, guitar, at, length, riff[i % len(riff)], root + 12, power=True)
            if mood > 0.4:
                _play(rng, second, at, length, riff[i % len(riff)], root + 12, power=True)
            if not (k == 0 and mood < 0.35):
                _play(rng, bass, at, length, riff[i % len(riff)], root, power=False)
            if mood > 0.7:
                _melody(rng, lead, at, length, scale, root + 36)
            bars.append(length)
            at += length
            bar += 1
        k += 1
    tracks = [t for t in (drums, guitar, second, bass, lead) if len(t.notes) > 7]
    return Score(f"heavy{seed}", tracks, bars, bpm, True, 0.05)


def _riff(rng: np.random.Generator, scale: list[int], beats: int) -> list[Bar]:
    """Bars of (place, length, step of pitch), with the name of their rhythm."""
    kind = str(rng.choice(RHYTHMS))
    out = []
    for _ in range(int(rng.choice([1, 2, 4]))):
        tones = [0, *rng.choice(scale, beats).tolist()]
        cell: list[tuple[float, float, int]] = []
        for b in range(beats):
            pitch = int(tones[0] if rng.random() < 0.5 else tones[b])
            if kind == "eighths":
                cell += [(b, 0.45, pitch), (b + 0.5, 0.45, pitch)]
            elif kind == "sixteenths" or kind == "tremolo":
                cell += [(b + i / 4, 0.22, pitch) for i in range(4)]
            elif kind == "gallop":
                cell += [(b, 0.45, pitch), (b + 0.5, 0.2, pitch), (b + 0.75, 0.2, pitch)]
            elif kind == "chug":
                cell += [(b + i / 4, 0.2, 0) for i in range(4) if rng.random() < 0.6]
            elif kind == "offs":
                cell += [(b + 0.5, 0.45, pitch)]
            elif kind == "long":
                cell += [(b, 2.0, pitch)] if b % 2 == 0 else []
        if kind == "syncopated":
            step, place = 0, 0.0
            while place < beats:
                length = float(rng.choice([0.5, 0.75, 0.75, 1.0, 1.5]))
                cell.append((place, min(length, beats - place) * 0.95, int(tones[step % len(tones)])))
                place, step = place + length, step + 1
        out.append((cell, kind))
    return out


def _play(rng: np.random.Generator, to: ScoreTrack, at: float, beats: int, bar: Bar, root: int, power: bool) -> None:
    cell, _ = bar
    for place, length, step in cell:
        if place >= beats:
            continue
        loud = int(np.clip((104 if place == int(place) else 92) + rng.normal(0, 6), 40, 127))
        for up in (0, 7, 12) if power else (0,):
            to.notes.append(ScoreNote(at + place, length, int(root + step + up), loud))


def _melody(rng: np.random.Generator, to: ScoreTrack, at: float, beats: int, scale: list[int], root: int) -> None:
    place = float(rng.choice([0, 0, 0.5, 1]))
    while place < beats:
        length = float(rng.choice([0.5, 0.5, 1, 1, 1.5, 2, 0.25]))
        pitch = root + int(rng.choice(scale)) - 12 * int(rng.random() < 0.3)
        to.notes.append(ScoreNote(at + place, 0.95 * length, pitch, int(np.clip(rng.normal(95, 10), 40, 127))))
        place += length


def _drums(
    rng: np.random.Generator, to: ScoreTrack, at: float, beats: int, pattern: str, opens: bool, last: bool, metal: bool
) -> None:
    def hit(place: float, pitch: int, loud: float) -> None:
        if place < beats:
            to.notes.append(ScoreNote(at + place, 0.2, pitch, int(np.clip(loud + rng.normal(0, 5), 10, 127))))

    fill_from = beats - float(rng.choice([1, 2, beats])) if last and rng.random() < 0.6 else beats
    if opens:
        hit(0, CRASH, 115)
    cymbal = {"ride": RIDE, "blast": int(rng.choice([HAT, RIDE, CHINA])), "half": int(rng.choice([CRASH, CHINA, RIDE]))}
    top = cymbal.get(pattern, HAT)
    eighths = np.arange(0, fill_from, 0.5)
    for b in range(int(np.ceil(fill_from))):
        back = b % 2 == 1
        if pattern in ("rock", "ride", "offbeat"):
            if back:
                hit(b, SNARE, 112)
            else:
                hit(b, KICK, 110)
            if rng.random() < 0.35:
                hit(b + 0.5, KICK, 100)
        elif pattern == "four":
            hit(b, KICK, 110)
            if back:
                hit(b, SNARE, 108)
        elif pattern in ("double", "gallop"):
            for i in range(4):
                if pattern == "double" or i != 1:
                    hit(b + i / 4, KICK, 108 if i == 0 else 98)
            if back:
                hit(b, SNARE, 115)
        elif pattern == "half":
            if b == beats // 2:
                hit(b, SNARE, 118)
            elif b == 0 or rng.random() < 0.3:
                hit(b, KICK, 112)
            if metal and rng.random() < 0.5:
                for i in range(4):
                    hit(b + i / 4, KICK, 98)
        elif pattern == "skank":
            hit(b, KICK, 108)
            hit(b + 0.5, SNARE, 110)
        elif pattern == "blast":
            for i in range(4):
                hit(b + i / 4, SNARE if i % 2 else KICK, 104)
                if metal and i % 2 == 1:
                    hit(b + i / 4, KICK, 90)
        elif pattern == "toms":
            for i in range(2):
                hit(b + i / 2, int(rng.choice(TOMS[2:])), 104)
            if back:
                hit(b, SNARE, 108)
        elif pattern == "break" and (b == 0 or rng.random() < 0.4):
            hit(b, KICK, 112)
            hit(b, CRASH, 104)
    if pattern == "offbeat":
        for b in range(int(fill_from)):
            hit(b + 0.5, OPEN, 96)
    elif pattern in ("blast", "double", "skank", "rock", "ride", "gallop"):
        beat_only = pattern in ("double", "half", "blast") and rng.random() < 0.5
        for e in eighths[:: 2 if beat_only else 1]:
            hit(float(e), top, 94 if e == int(e) else 78)
    elif pattern in ("half", "four"):
        for e in eighths[::2]:
            hit(float(e), top, 100)
    for i in range(round((beats - fill_from) * 4)):
        if rng.random() < 0.85:
            hit(fill_from + i / 4, int(rng.choice([SNARE, *TOMS])), 104)
