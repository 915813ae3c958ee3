"""The chords along a take: where they sound in the recording, and where they stand in its bars."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.harmony.chord_search import find_chords
from core.harmony.chords import Chord, voiced
from core.listening.tonal import Tones
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
UNSURE = 0.7


def is_unsure(chord: TimedChord) -> bool:
    """Whether a chord was found with little confidence; what the engineer wrote is sure."""
    return chord.confidence is not None and chord.confidence < UNSURE


def chords_by_beat(tones: Tones, tempo_map: TempoMap) -> list[TimedChord]:
    """Chords beat by beat of the mapped music."""
    beats = tempo_map.beats()
    if len(beats) < 2:
        return []
    return [
        TimedChord(float(beats.seconds[span.place]), span.chord, span.confidence)
        for span in find_chords(tones, beats.seconds, (beats.beat == 1)[:-1])
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


def _spans(chords: Sequence[TimedChord], tempo_map: TempoMap) -> list[tuple[float, float]]:
    """From where to where each chord stands, in quarters: up to the next one, or the end of the music."""
    if not chords:
        return []
    # chords stand on beats; what the conversion leaves behind the point is rounding
    starts = [round(float(q) * 960) / 960 for q in tempo_map.quarters_at([s.seconds for s in chords])]
    return list(zip(starts, [*starts[1:], float(tempo_map.quarters[-1])], strict=True))


def pad_notes(chords: Sequence[TimedChord], tempo_map: TempoMap, velocity: int = 64) -> list[ScoreNote]:
    """The standing chords as held notes that ride the bars, each up to the next chord or the end of the music."""
    out = []
    for (q, until), pitches in zip(_spans(chords, tempo_map), voiced([s.chord for s in chords]), strict=True):
        bar, offset = bar_and_offset(tempo_map.meters, q)
        if until > q:
            out += [ScoreNote(bar, offset, until - q, p, velocity) for p in pitches]
    return out


#: The bass's lowest note (E1, a bass guitar's lowest string), how loud it plays where a chord or bar begins, and how
#: loud in the middle of a bar.
_LOWEST, _ON_ONE, _BETWEEN = 28, 88, 76


def bass_notes(chords: Sequence[TimedChord], tempo_map: TempoMap) -> list[ScoreNote]:
    """A plain bass line: the root, or the bass that is written, where a chord or a bar begins, and the fifth in the
    middle of a bar of four or six quarters that has one chord (common practice)."""
    out = []
    for (q, until), timed in zip(_spans(chords, tempo_map), chords, strict=True):
        chord = timed.chord
        if chord.root is None or until <= q:
            continue
        low = _LOWEST + ((chord.bass if chord.bass is not None else chord.root) - _LOWEST) % 12
        fifth = low + next((s for s in (7, 6, 8) if (chord.root + s) % 12 in chord.classes), 0)
        at = q
        while at < until - 1e-6:
            bar, offset = bar_and_offset(tempo_map.meters, at)
            length = tempo_map.meters.meter_at(bar).quarters
            line = at - offset + length
            middle = at + length / 2
            stop = min(line, until)
            if offset < 1e-6 and chord.bass is None and length in (4, 6) and stop >= line - 1e-6:
                out.append(ScoreNote(bar, 0.0, length / 2, low, _ON_ONE))
                out.append(ScoreNote(bar, middle - at, length / 2, fifth, _BETWEEN))
            else:
                out.append(ScoreNote(bar, offset, stop - at, low, _ON_ONE))
            at = stop
    return out


#: What the chords can become: the name of the part's instrument, and how its notes are found.
VOICINGS: dict[str, Callable[[Sequence[TimedChord], TempoMap], list[ScoreNote]]] = {
    "pad": pad_notes,
    "strings": pad_notes,
    "bass": bass_notes,
}
