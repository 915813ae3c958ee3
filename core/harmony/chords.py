"""Chords: their symbols, finding them in chroma, the key, and the voicing of a pad."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
SHARP = ("C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B")
FLAT = ("C", "Db", "D", "Eb", "E", "F", "Gb", "G", "Ab", "A", "Bb", "B")
#: Chord qualities by their usual suffix: semitones above the root (common practice).
QUALITIES: dict[str, tuple[int, ...]] = {
    "": (0, 4, 7), "m": (0, 3, 7), "7": (0, 4, 7, 10), "m7": (0, 3, 7, 10), "maj7": (0, 4, 7, 11),
    "dim": (0, 3, 6), "aug": (0, 4, 8), "sus4": (0, 5, 7), "sus2": (0, 2, 7), "6": (0, 4, 7, 9), "m6": (0, 3, 7, 9),
    "dim7": (0, 3, 6, 9), "m7b5": (0, 3, 6, 10), "mmaj7": (0, 3, 7, 11), "9": (0, 4, 7, 10, 14),
    "m9": (0, 3, 7, 10, 14), "maj9": (0, 4, 7, 11, 14), "add9": (0, 4, 7, 14), "7sus4": (0, 5, 7, 10), "5": (0, 7),
}  # fmt: skip
_ALSO = {
    "maj": "", "M": "", "min": "m", "-": "m", "min7": "m7", "-7": "m7", "M7": "maj7", "Δ": "maj7", "°": "dim",
    "o": "dim", "+": "aug", "sus": "sus4", "ø": "m7b5", "°7": "dim7", "mM7": "mmaj7", "min6": "m6", "M9": "maj9",
}  # fmt: skip


#: The fall from one overtone to the next (Gómez 2006), and how much the root counts beside the other tones.
_OVERTONE, _ROOT = 0.6, 1.15
#: A beat with less than this share of the median strength is silent.
_SILENT = 0.05


@dataclass(frozen=True)
class Chord:
    """``root`` and ``bass`` as pitch classes (C is 0), ``quality`` one of :data:`QUALITIES`; ``flat``: written so.

    A root of None is no chord, written N.C.
    """

    root: int | None
    quality: str = ""
    bass: int | None = None
    flat: bool = False

    @classmethod
    def parse(cls, text: str) -> Chord:
        """Read usual symbols such as ``Dm7``, ``F#maj7/A#``, ``Bb`` or ``N.C.``. Raises ``ValueError``."""
        written = text.strip().replace("♯", "#").replace("♭", "b")
        if written.upper().rstrip(".") in ("N.C", "NC", "-"):
            return cls(None)
        match = re.fullmatch(r"([A-Ga-g][#b]?)([^/]*)(?:/([A-Ga-g][#b]?))?", written)
        if match:
            root, quality, bass = match.groups()
            quality = _ALSO.get(quality.strip(), quality.strip())
            if quality in QUALITIES:
                flat = "b" in root or "b" in (bass or "")
                return cls(_pitch_class(root), quality, _pitch_class(bass) if bass else None, flat)
        raise ValueError(f"“{text}” is no chord symbol; write it like C, F#m, Bb7, Dm7/A or N.C.")

    def __str__(self) -> str:
        if self.root is None:
            return "N.C."
        names = FLAT if self.flat else SHARP
        return names[self.root] + self.quality + (f"/{names[self.bass]}" if self.bass is not None else "")

    @property
    def classes(self) -> list[int]:
        """The pitch classes that sound, the root first."""
        return [] if self.root is None else [(self.root + s) % 12 for s in QUALITIES[self.quality]]


def _pitch_class(name: str) -> int:
    return (SHARP.index(name[0].upper()) + {"#": 1, "b": -1}.get(name[1:], 0)) % 12


#: What is looked for, with a price on rarer qualities (in units of correlation).
_SOUGHT = {"": 0.0, "m": 0.0, "7": 0.02, "m7": 0.02, "maj7": 0.01, "sus4": 0.03, "dim": 0.02}


def _templates() -> tuple[list[Chord], Floats, Floats]:
    """Chords with the chroma of their tones and first overtones (each falling to 0.6 of the last; Gómez, "Tonal
    description of polyphonic audio", 2006)."""
    chords, rows, price = [], [], []
    overtones = [
        (0, 1 + _OVERTONE + _OVERTONE**3),
        (7, _OVERTONE**2 + _OVERTONE**5),
        (4, _OVERTONE**4),
        (10, _OVERTONE**6),
    ]
    for root in range(12):
        for quality, cost in _SOUGHT.items():
            row = np.zeros(12)
            for step in QUALITIES[quality]:
                for above, worth in overtones:
                    row[(root + step + above) % 12] += worth * (_ROOT if step == 0 else 1.0)
            chords.append(Chord(root, quality))
            rows.append((row - row.mean()) / row.std())
            price.append(cost)
    return chords, np.array(rows), np.array(price)


_CHORDS, _ROWS, _PRICE = _templates()
#: Price of leaving a chord, in nats: within a bar, and at a bar line.
_STAY, _STAY_AT_BAR = 1.5, 0.3
_SHARPNESS = 14.0
#: How far soft tones are lifted before tones are compared.
_BOOST = 2.0
#: Correlation at which nothing is as likely as a chord.
_NOTHING = 0.42


@dataclass(frozen=True)
class ChordSpan:
    """A chord from one beat up to the next change: ``place`` of its beat, ``confidence`` 0 to 1."""

    place: int
    chord: Chord
    confidence: float


def find_chords(chroma: Floats, downbeat: NDArray[np.bool_]) -> list[ChordSpan]:
    """Chords beat by beat, joined where they stay.

    ``chroma``: ``(beats, 12)``, ``downbeat``: which beats open a bar, where chords change most readily. A hidden
    Markov model over chord templates, decoded by its most probable path; confidence is the posterior of the path's
    chord (forward-backward), averaged over its beats (Rabiner 1989).
    """
    if not len(chroma):
        return []
    level = np.log1p(_BOOST * chroma / (np.median(chroma.sum(axis=1)) / 12 + 1e-12))
    spread = level.std(axis=1, keepdims=True)
    likeness = ((level - level.mean(axis=1, keepdims=True)) / np.maximum(spread, 1e-9)) @ _ROWS.T / 12 - _PRICE
    silent = (chroma.sum(axis=1) < _SILENT * np.median(chroma.sum(axis=1)))[:, None]
    scores = _SHARPNESS * np.concatenate([np.where(silent, 0.0, likeness), np.full((len(chroma), 1), _NOTHING)], axis=1)
    states = scores.shape[1]
    leave = np.where(downbeat, _STAY_AT_BAR, _STAY) + np.log(states - 1)
    path = _viterbi(scores, leave)
    sure = _posterior(scores, leave)[np.arange(len(path)), path]
    starts = np.flatnonzero(np.concatenate([[True], np.diff(path) != 0]))
    ends = np.append(starts[1:], len(path))
    key = find_key(chroma)
    out = []
    for a, b in zip(starts.tolist(), ends.tolist(), strict=True):
        chord = Chord(None) if path[a] == states - 1 else _CHORDS[path[a]]
        out.append(ChordSpan(a, Chord(chord.root, chord.quality, flat=key.flat), float(sure[a:b].mean())))
    return out


def _viterbi(scores: Floats, leave: Floats) -> NDArray[np.int64]:
    best, back = scores[0].copy(), np.zeros(scores.shape, dtype=np.int64)
    for t in range(1, len(scores)):
        other = int(np.argmax(best))
        jumps = best[other] - leave[t]
        stay = best >= jumps
        back[t] = np.where(stay, np.arange(len(best)), other)
        best = np.where(stay, best, jumps) + scores[t]
    path = np.zeros(len(scores), dtype=np.int64)
    path[-1] = int(np.argmax(best))
    for t in range(len(scores) - 1, 0, -1):
        path[t - 1] = back[t, path[t]]
    return path


def _posterior(scores: Floats, leave: Floats) -> Floats:
    """State probabilities at each beat: forward and backward passes with scaling; a move is as likely to any state."""
    like = np.exp(scores - scores.max(axis=1, keepdims=True))
    move = np.exp(-leave)
    ahead, behind = np.zeros_like(like), np.ones_like(like)
    ahead[0] = like[0] / like[0].sum()
    for t in range(1, len(like)):
        row = like[t] * (ahead[t - 1] + move[t] * ahead[t - 1].sum())
        ahead[t] = row / row.sum()
    for t in range(len(like) - 2, -1, -1):
        weighed = like[t + 1] * behind[t + 1]
        row = weighed + move[t + 1] * weighed.sum()
        behind[t] = row / row.sum()
    both = ahead * behind
    return np.asarray(both / both.sum(axis=1, keepdims=True))


#: Key profiles of Krumhansl and Kessler (1982), as printed in Krumhansl, "Cognitive Foundations of Musical Pitch",
#: 1990: how well each pitch class fits a major and a minor key on C.
MAJOR = np.array([6.35, 2.23, 3.48, 2.33, 4.38, 4.09, 2.52, 5.19, 2.39, 3.66, 2.29, 2.88])
MINOR = np.array([6.33, 2.68, 3.52, 5.38, 2.60, 3.53, 2.54, 4.75, 3.98, 2.69, 3.34, 3.17])


@dataclass(frozen=True)
class Key:
    """``tonic`` as a pitch class; ``fit`` is the correlation with the key's profile."""

    tonic: int
    minor: bool
    fit: float

    @property
    def flat(self) -> bool:
        """Whether it is written with flats (the circle of fifths, its sharp side up to F sharp major)."""
        return (self.tonic + 3 * self.minor) % 12 in (5, 10, 3, 8, 1)

    def __str__(self) -> str:
        return f"{(FLAT if self.flat else SHARP)[self.tonic]} {'minor' if self.minor else 'major'}"


def find_key(chroma: Floats) -> Key:
    """The key whose profile correlates best with the summed chroma (Krumhansl and Schmuckler's method)."""
    total = np.log1p(chroma / (chroma.mean() + 1e-12)).sum(axis=0)
    if total.std() < 1e-12:
        return Key(0, False, 0.0)
    found = [
        Key(t, minor, float(np.corrcoef(total, np.roll(profile, t))[0, 1]))
        for minor, profile in ((False, MAJOR), (True, MINOR))
        for t in range(12)
    ]
    return max(found, key=lambda k: k.fit)


def voiced(chords: Sequence[Chord], centre: int = 62) -> list[list[int]]:
    """MIDI pitches for a pad: the root (or the written bass) between E2 and E flat 3, and above it the chord's tones
    close together, moving as little as they can from one chord to the next, around ``centre``."""
    out: list[list[int]] = []
    last: list[int] = []
    for chord in chords:
        if chord.root is None:
            out.append([])
            continue
        low = chord.bass if chord.bass is not None else chord.root
        bass = 40 + (low - 40) % 12
        classes = chord.classes
        best: tuple[float, list[int]] = (np.inf, [])
        for turn in range(len(classes)):
            order = classes[turn:] + classes[:turn]
            for start in range(centre - 12, centre + 8):
                if start % 12 != order[0]:
                    continue
                tones = [start]
                for c in order[1:]:
                    tones.append(tones[-1] + ((c - tones[-1]) % 12 or 12))
                middle = sum(tones) / len(tones)
                moved = sum(min(abs(t - s) for s in last) for t in tones) if last else 0
                cost = moved + 0.6 * abs(middle - centre)
                if cost < best[0]:
                    best = (cost, tones)
        last = best[1]
        out.append([bass, *last])
    return out
