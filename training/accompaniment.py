"""Accompaniments in all styles from chord symbols, by Debian's mma (GPL 2), whose output is the user's own.

A song is a form of phrases in the variants of one groove: intro, verse, fills, endings.
"""

from __future__ import annotations

import re
import subprocess
import tempfile
from functools import cache
from pathlib import Path

import mido
import numpy as np

from training import styles
from training.composed import from_midi
from training.score import Score

LIBRARY = Path("/usr/share/mma/lib")
ROMAN = {
    "major": [("", 0), ("m", 2), ("m", 4), ("", 5), ("", 7), ("m", 9)],
    "minor": [("m", 0), ("", 3), ("m", 5), ("m", 7), ("", 8), ("", 10)],
}
NAMES = ("C", "Db", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")


@cache
def families() -> dict[str, tuple[list[str], str]]:
    """Per library file its grooves, and its text."""
    out = {}
    for path in sorted(LIBRARY.glob("*/*.mma")):
        text = path.read_text(errors="ignore")
        grooves = re.findall(r"(?im)^\s*defgroove\s+(\S+)", text)
        if grooves and not path.stem.startswith(("metronome", "none")):
            out[f"{path.parent.name}/{path.stem}"] = (grooves, text)
    return out


def felt_beats(text: str) -> tuple[int, int] | None:
    """Beats a bar as the library counts them, and felt ones."""
    times = {int(t) for t in re.findall(r"(?im)^\s*time\s+(\d+)", text)}
    signatures = {(int(a), int(b)) for a, b in re.findall(r"(?im)^\s*timesig\s+(\d+)[ /]+(\d+)", text)}
    if len(times) > 1 or len(signatures) > 1:
        return None
    beats = times.pop() if times else 4
    over, under = signatures.pop() if signatures else (beats, 4)
    if under == 8:
        return (beats, over // 3) if over % 3 == 0 else None
    return beats, over


def played(rows: list[str], family: str, counted: int, felt: int) -> Score | None:
    """What mma makes of the lines of its language, in bars of ``counted`` beats of which ``felt`` are felt; None
    where it refuses them."""
    with tempfile.TemporaryDirectory() as folder:
        source, out = Path(folder) / "song.mma", Path(folder) / "song.mid"
        source.write_text("\n".join(rows) + "\n")
        try:
            done = subprocess.run(["mma", source, "-f", out], capture_output=True, timeout=60)
        except subprocess.TimeoutExpired:
            return None
        if done.returncode or not out.exists():
            return None
        midi = mido.MidiFile(out)
    midi.tracks[0] = mido.MidiTrack(
        [mido.MetaMessage("time_signature", numerator=counted, denominator=4, time=0)]
        + [m for m in midi.tracks[0] if m.type not in ("time_signature", "set_tempo")]
    )
    return from_midi(family, midi, felt)


def score(seed: int, family: str) -> Score | None:
    """A song on one groove family; None where it is left out or the generator refuses it."""
    rng = np.random.default_rng(seed)
    grooves, text = families()[family]
    beats, middle = felt_beats(text), styles.usual_tempo(family)
    if beats is None or middle is None:
        return None
    counted, felt = beats[0], styles.felt(family, *beats)
    fills = [g for g in grooves if "fill" in g.lower()]
    plain = [g for g in grooves if not re.search(r"(?i)fill|intro|end|plus", g)] or grooves
    ends = [g for g in grooves if "end" in g.lower()]
    intros = [g for g in grooves if "intro" in g.lower()]
    bpm = float(np.clip(middle * np.exp(styles.SPREAD * rng.standard_normal()), 45, 200))
    key, mode = int(rng.integers(12)), str(rng.choice(["major", "minor"]))
    phrase = int(rng.choice([4, 4, 8]))
    pace = rng.choice(["bar", "half", "two"], p=[0.6, 0.2, 0.2])

    def chord(degree: int) -> str:
        quality, step = ROMAN[mode][degree]
        more = rng.random()
        if more < 0.25:
            quality = {"": "M7" if degree == 0 else "7", "m": "m7"}[quality]
        return NAMES[(key + step) % 12] + quality

    def line() -> list[str]:
        out, now = [], 0
        for bar in range(phrase):
            cells = ["/"] * counted
            if bar == 0 or pace != "two" or bar % 2 == 0:
                now = 0 if bar == 0 and rng.random() < 0.7 else int(rng.integers(6))
            cells[0] = chord(now)
            if pace == "half" and counted % 2 == 0 and rng.random() < 0.7:
                cells[counted // 2] = chord(int(rng.integers(6)))
            out.append(" ".join(cells))
        return out

    phrases = [line(), line()]
    want = int(np.ceil(55 * bpm / 60 / felt / phrase)) + 1
    rows, bar = [f"Tempo {max(40, min(300, round(bpm * counted / felt)))}", f"RndSeed {seed % 100_000}"], 0
    if intros and rng.random() < 0.4:
        rows += [f"Groove {intros[0]}", *(f"{(bar := bar + 1)} {c}" for c in phrases[0][: min(4, phrase)])]
    for part in range(want):
        rows.append(f"Groove {rng.choice(plain)}")
        cells = phrases[1 if part % 4 == 2 else 0]
        for i, c in enumerate(cells):
            if fills and i == phrase - 1 and rng.random() < 0.6:
                rows.append(f"Groove {rng.choice(fills)}")
            rows.append(f"{(bar := bar + 1)} {c}")
    if ends and rng.random() < 0.6:
        rows += [f"Groove {ends[0]}", f"{bar + 1} {phrases[0][0]}"]
    found = played(rows, family, counted, felt)
    if found:
        found.bpm, found.free = bpm, 0.2
    return found
