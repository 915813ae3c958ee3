"""How well chords are found: ``python -m bench.chords``, on made-up songs of six styles with their beats given.

By beat, after the rules of MIREX as mir_eval has them (Raffel et al. 2014): the right root and third (``thirds``), the
right major or minor chord (``majmin``), and the very chord of our own symbols. Songs with seeds from 1000 on are judged;
those below were looked at while constants were chosen.
"""

from __future__ import annotations

import argparse
from collections.abc import Iterator

import numpy as np
import soxr
from django.conf import settings

from bench.chord_songs import RATE, STYLES, Song, make
from core.harmony.chord_line import UNSURE, chords_by_beat
from core.harmony.chords import Chord
from core.listening import tonal

#: Our qualities in the syntax of Harte et al. (2005), which mir_eval reads.
_HARTE = {"": "maj", "m": "min", "7": "7", "m7": "min7", "maj7": "maj7", "dim": "dim", "sus4": "sus4", "aug": "aug",
          "sus2": "sus2", "6": "maj6", "m6": "min6", "m7b5": "hdim7", "dim7": "dim7", "mmaj7": "minmaj7"}  # fmt: skip


def harte(chord: Chord) -> str:
    if chord.root is None:
        return "N"
    return f"{Chord(chord.root)}:{_HARTE.get(chord.quality, 'maj')}"


def found_by_beat(song: Song, mix: bool = False) -> tuple[list[Chord], np.ndarray]:
    """The chord found for each beat, and its confidence."""
    tracks = [np.sum(list(song.tracks.values()), axis=0)] if mix else list(song.tracks.values())
    heard = []
    for x in tracks:
        y = soxr.resample(x, RATE, tonal.RATE).astype(np.float32)
        heard.append(tonal.tones([y]))
    found = chords_by_beat(tonal.joined(heard), song.tempo_map)
    beats = song.tempo_map.beats().seconds
    at = np.searchsorted([c.seconds for c in found], beats + 1e-6) - 1
    return [found[k].chord for k in at], np.array([found[k].confidence for k in at])


def scores(song: Song, found: list[Chord]) -> dict[str, float]:
    import mir_eval

    wanted, said = [harte(c) for c in song.chords], [harte(c) for c in found]
    out = {}
    for name in ("thirds", "majmin"):
        right = getattr(mir_eval.chord, name)(wanted, said)
        out[name] = float(np.mean(right[right >= 0]))  # what the rule does not judge is -1
    out["exact"] = float(
        np.mean([str(a) == str(Chord(b.root, b.quality)) for a, b in zip(song.chords, found, strict=True)])
    )
    return out


def songs(style: str, first: int, count: int, built_in: bool) -> Iterator[Song]:
    path = None if built_in else (settings.SOUND_SET, settings.SOUND_SET.stat().st_mtime_ns)
    for seed in range(first, first + count):
        yield make(style, seed, path)


def main() -> None:
    ask = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    ask.add_argument("--first", type=int, default=1000)
    ask.add_argument("--songs", type=int, default=4, help="of each style")
    ask.add_argument("--mix", action="store_true", help="the tracks mixed to one")
    ask.add_argument("--built-in", action="store_true", help="played by the built-in voices")
    a = ask.parse_args()
    every: list[dict[str, float]] = []
    sure: list[np.ndarray] = []
    right: list[np.ndarray] = []
    print("style    thirds majmin exact")
    for style in STYLES:
        rows = []
        for song in songs(style, a.first, a.songs, a.built_in):
            found, confidence = found_by_beat(song, a.mix)
            rows.append(scores(song, found))
            sure.append(confidence)
            right.append(np.array([w.root == f.root and w.classes[1] == (f.classes or [0, -1])[1]
                                   for w, f in zip(song.chords, found, strict=True)]))  # fmt: skip
        every += rows
        print(f"{style:8} " + "  ".join(f"{np.mean([r[k] for r in rows]):.3f}" for k in ("thirds", "majmin", "exact")))
    print("all      " + "  ".join(f"{np.mean([r[k] for r in every]):.3f}" for k in ("thirds", "majmin", "exact")))
    p, ok = np.concatenate(sure), np.concatenate(right)
    print(f"wrong beats shown as unsure: {np.mean(p[~ok] < UNSURE):.2f}; right ones: {np.mean(p[ok] < UNSURE):.2f}")


if __name__ == "__main__":
    import os

    import django

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "studio.settings")
    django.setup()
    main()
