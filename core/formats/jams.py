"""A map as JAMS: beats, positions in bars, sections, chords and tempo, each in its published namespace.

Humphrey and others, "JAMS: a JSON annotated music specification for reproducible MIR research" (ISMIR 2014), schema and
namespaces of version 0.3: ``beat``, ``beat_position``, ``segment_open``, ``chord`` (after Harte and others 2005),
``tempo``. Read by :mod:`core.formats.beat_tables`.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from core.formats.carried.content import Section
from core.harmony.chord_line import TimedChord
from core.harmony.chords import FLAT, SHARP, Chord
from core.tempomap import TempoMap

_VERSION = "0.3.4"
#: Harte's shorthand for our qualities.
_SHORTHAND = {
    "": "maj", "m": "min", "7": "7", "m7": "min7", "maj7": "maj7", "dim": "dim", "aug": "aug", "sus4": "sus4",
    "sus2": "sus2", "6": "maj6", "m6": "min6", "dim7": "dim7", "m7b5": "hdim7", "mmaj7": "minmaj7", "9": "9",
    "m9": "min9", "maj9": "maj9", "add9": "maj(9)", "7sus4": "sus4(b7)", "5": "(1,5)",
}  # fmt: skip
_DEGREES = ("1", "b2", "2", "b3", "3", "4", "b5", "5", "b6", "6", "b7", "7")


def harte(chord: Chord) -> str:
    """A chord in Harte's syntax, like ``D:min7/5``; ``N`` for none."""
    if chord.root is None:
        return "N"
    text = f"{(FLAT if chord.flat else SHARP)[chord.root]}:{_SHORTHAND[chord.quality]}"
    return text if chord.bass is None else f"{text}/{_DEGREES[(chord.bass - chord.root) % 12]}"


def write(
    tempo_map: TempoMap,
    seconds: float,
    title: str = "",
    sections: Sequence[Section] = (),
    chords: Sequence[TimedChord] = (),
    confidence: Mapping[int, float] | None = None,
) -> str:
    """The map of a take of so many ``seconds`` as a document. ``confidence``: of beats by their index."""
    beats = tempo_map.beats()
    sure = confidence or {}
    meters = [tempo_map.meters.meter_at(int(bar)) for bar in beats.bar]
    inside = (beats.seconds >= 0) & (beats.seconds <= seconds)
    counted, places = [], []
    for k in np.flatnonzero(inside):
        time, certainty = float(beats.seconds[k]), sure.get(int(beats.index[k]))
        counted.append(_observation(time, 0.0, int(beats.beat[k]), certainty))
        unit = meters[k].denominator / meters[k].groups[0] if len(set(meters[k].groups)) == 1 else meters[k].denominator
        place = {
            "position": int(beats.beat[k]),
            "measure": max(0, int(beats.bar[k])),
            "num_beats": meters[k].beats,
            "beat_units": int(unit) if unit in (1, 2, 4, 8, 16) else meters[k].denominator,
        }
        places.append(_observation(time, 0.0, place, certainty))
    ends = [*(c.seconds for c in chords), seconds][1:]
    sung = [
        _observation(c.seconds, max(0.0, end - c.seconds), harte(c.chord), c.confidence)
        for c, end in zip(chords, ends, strict=False)
    ]
    parts = [_observation(s.start, s.end - s.start, s.name, None) for s in sections]
    every = {
        "beat": counted,
        "beat_position": places,
        "segment_open": parts,
        "chord": sung,
        "tempo": [_observation(0.0, seconds, tempo_map.median_bpm, 1.0)],
    }
    document = {
        "annotations": [_annotation(name, data, seconds) for name, data in every.items() if data],
        "file_metadata": {
            "title": title,
            "artist": "",
            "release": "",
            "duration": seconds,
            "identifiers": {},
            "jams_version": _VERSION,
        },
        "sandbox": {},
    }
    return json.dumps(document, indent=1, ensure_ascii=False) + "\n"


def _observation(time: float, duration: float, value: Any, confidence: float | None) -> dict[str, Any]:
    return {"time": time, "duration": duration, "value": value, "confidence": confidence}


def _annotation(namespace: str, data: list[dict[str, Any]], seconds: float) -> dict[str, Any]:
    about = {
        "curator": {"name": "", "email": ""},
        "annotator": {},
        "version": "",
        "corpus": "",
        "annotation_tools": "Diachron",
        "annotation_rules": "",
        "validation": "",
        "data_source": "program",
    }
    return {
        "namespace": namespace,
        "data": data,
        "annotation_metadata": about,
        "sandbox": {},
        "time": 0,
        "duration": seconds,
    }
