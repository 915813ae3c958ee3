"""The chords along a take: where they sound in the recording, and where they stand in its bars."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.harmony.chords import Chord, find_chords, voiced
from core.listening.tonal import Tones, chroma, tuning
from core.notes import ScoreNote, bar_and_offset
from core.tempomap import TempoMap

#: What chords may stand on.
GRAINS = ("beat", "bar")


@dataclass(frozen=True)
class TimedChord:
    """A chord from ``seconds`` of the recording on; ``confidence`` is None where the engineer wrote it."""

    seconds: float
    chord: Chord
    confidence: float | None = None


#: A chord with less confidence is shown as unsure.
_UNSURE = 0.7


def is_unsure(chord: TimedChord) -> bool:
    """Whether a chord was found with little confidence; what the engineer wrote is sure."""
    return chord.confidence is not None and chord.confidence < _UNSURE


def chords_by_beat(tones: Tones, tempo_map: TempoMap) -> list[TimedChord]:
    """Chords beat by beat of the mapped music."""
    beats = tempo_map.beats()
    if len(beats) < 2:
        return []
    by_beat = chroma(tones, beats.seconds, tuning(tones))
    return [
        TimedChord(float(beats.seconds[span.place]), span.chord, span.confidence)
        for span in find_chords(by_beat, (beats.beat == 1)[:-1])
    ]


def snapped_chords(chords: Sequence[TimedChord], tempo_map: TempoMap, grain: str = "beat") -> list[TimedChord]:
    """The chords moved to the nearest beats, or bar lines, of a map; of two on one place the later wins, and a chord
    that repeats the one before it is left out. The recording never moves, so the kept seconds stay what they are.
    """
    lines = _lines(tempo_map, grain)
    at: dict[int, TimedChord] = {}
    for s in sorted(chords, key=lambda s: s.seconds):
        at[int(np.argmin(np.abs(lines - s.seconds)))] = s
    out: list[TimedChord] = []
    for place, s in sorted(at.items()):
        if not out or str(out[-1].chord) != str(s.chord):
            out.append(TimedChord(float(lines[place]), s.chord, s.confidence))
    return out


def _lines(tempo_map: TempoMap, grain: str) -> NDArray[Any]:
    if grain == "bar":
        first, last = tempo_map.bar_range
        return np.asarray(tempo_map.bar_seconds(np.arange(first, last + 1)))
    return tempo_map.beats().seconds


def with_chord(
    chords: Sequence[TimedChord], tempo_map: TempoMap, grain: str, seconds: float, chord: Chord | None
) -> list[TimedChord]:
    """With a chord written at the beat (or bar line) nearest to a time, in place of what stands there; None takes the
    one there away, so that the chord before it goes on."""
    lines = _lines(tempo_map, grain)
    place = int(np.argmin(np.abs(lines - seconds)))
    kept = [s for s in chords if int(np.argmin(np.abs(lines - s.seconds))) != place]
    if chord is not None:
        kept.append(TimedChord(float(lines[place]), chord))
    return sorted(kept, key=lambda s: s.seconds)


def pad_notes(chords: Sequence[TimedChord], tempo_map: TempoMap, velocity: int = 64) -> list[ScoreNote]:
    """The standing chords as held notes that ride the bars, each up to the next chord or the end of the music."""
    if not chords:
        return []
    end = float(tempo_map.quarters[-1])
    starts = [float(q) for q in tempo_map.quarters_at([s.seconds for s in chords])]
    out = []
    for q, until, pitches in zip(starts, [*starts[1:], end], voiced([s.chord for s in chords]), strict=True):
        q = round(q * 960) / 960  # chords stand on beats; what the conversion leaves behind the point is rounding
        bar, offset = bar_and_offset(tempo_map.meters, q)
        if until > q:
            out += [ScoreNote(bar, offset, until - q, p, velocity) for p in pitches]
    return out
