"""Chords: their symbols, the key, and the voicing of a pad."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.errors import InputError

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
        """Read usual symbols such as ``Dm7``, ``F#maj7/A#``, ``Bb`` or ``N.C.``. Raises
        :class:`core.errors.InputError`."""
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
        raise InputError(f"“{text}” is no chord symbol; write it like C, F#m, Bb7, Dm7/A or N.C.")

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
