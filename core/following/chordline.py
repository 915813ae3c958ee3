"""The chords along a take: where they sound in the recording, and where they stand in its bars."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from core.following.chords import Chord, find, voiced
from core.following.parts import Placed
from core.following.roll import at_quarter
from core.listening.tonal import Tones, chroma, tuning
from core.tempomap import TempoMap

#: What chords may stand on.
GRAINS = ("beat", "bar")


@dataclass(frozen=True)
class Spot:
    """A chord from ``seconds`` of the recording on; ``confidence`` is None where the engineer wrote it."""

    seconds: float
    chord: Chord
    confidence: float | None = None


def heard(found: Tones, tempo_map: TempoMap) -> list[Spot]:
    """Chords beat by beat of the mapped music."""
    beats = tempo_map.beats()
    if len(beats) < 2:
        return []
    by_beat = chroma(found, beats.seconds, tuning(found))
    return [Spot(float(beats.seconds[h.place]), h.chord, h.confidence) for h in find(by_beat, (beats.beat == 1)[:-1])]


def standing(spots: Sequence[Spot], tempo_map: TempoMap, grain: str = "beat") -> list[Spot]:
    """The chords moved to the nearest beats, or bar lines, of a map; of two on one place the later wins, and a chord
    that repeats the one before it is left out. The recording never moves, so the kept seconds stay what they are.
    """
    lines = _lines(tempo_map, grain)
    at: dict[int, Spot] = {}
    for s in sorted(spots, key=lambda s: s.seconds):
        at[int(np.argmin(np.abs(lines - s.seconds)))] = s
    out: list[Spot] = []
    for place, s in sorted(at.items()):
        if not out or str(out[-1].chord) != str(s.chord):
            out.append(Spot(float(lines[place]), s.chord, s.confidence))
    return out


def _lines(tempo_map: TempoMap, grain: str) -> np.ndarray:
    if grain == "bar":
        first, last = tempo_map.bar_range
        return np.asarray(tempo_map.bar_seconds(np.arange(first, last + 1)))
    return tempo_map.beats().seconds


def written(spots: Sequence[Spot], tempo_map: TempoMap, grain: str, seconds: float, chord: Chord | None) -> list[Spot]:
    """With a chord written at the beat (or bar line) nearest to a time, in place of what stands there; None takes the
    one there away, so that the chord before it goes on."""
    lines = _lines(tempo_map, grain)
    place = int(np.argmin(np.abs(lines - seconds)))
    kept = [s for s in spots if int(np.argmin(np.abs(lines - s.seconds))) != place]
    if chord is not None:
        kept.append(Spot(float(lines[place]), chord))
    return sorted(kept, key=lambda s: s.seconds)


def as_pad(spots: Sequence[Spot], tempo_map: TempoMap, velocity: int = 64) -> list[Placed]:
    """The standing chords as held notes that ride the bars, each up to the next chord or the end of the music."""
    if not spots:
        return []
    end = float(tempo_map.quarters[-1])
    starts = [float(q) for q in tempo_map.quarters_at([s.seconds for s in spots])]
    out = []
    for q, until, pitches in zip(starts, [*starts[1:], end], voiced([s.chord for s in spots]), strict=True):
        q = round(q * 960) / 960  # chords stand on beats; what the conversion leaves behind the point is rounding
        bar, offset = at_quarter(tempo_map.meters, q)
        if until > q:
            out += [Placed(bar, offset, until - q, p, velocity) for p in pitches]
    return out
