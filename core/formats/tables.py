"""The map as tables for people and programs: beats as CSV, everything as JSON."""

from __future__ import annotations

import csv
import io
from typing import Any

import numpy as np

from core.tempomap import TempoMap
from core.tracking import TrackingResult


def beats_csv(tempo_map: TempoMap) -> str:
    """One line a felt beat: time in seconds, bar, beat, felt beats a minute to the next beat, pinned or not.

    Lines end in CRLF as RFC 4180 has it; times are written to the microsecond.
    """
    beats = tempo_map.beats()
    ends = np.append(beats.seconds[1:], tempo_map.seconds_of_beat(beats.index[-1] + 1))
    assert tempo_map.pins is not None
    pinned = np.interp(beats.quarters, tempo_map.quarters, tempo_map.pins) >= 1 - 1e-9
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["time", "bar", "beat", "bpm", "pinned"])
    for t, bar, beat, end, pin in zip(beats.seconds, beats.bar, beats.beat, ends, pinned, strict=True):
        writer.writerow([f"{t:.6f}", bar, beat, f"{60 / (end - t):.3f}", int(pin)])
    return out.getvalue()


def map_json(tempo_map: TempoMap, duration: float, result: TrackingResult) -> dict[str, Any]:
    """The map and how it was found, as plain data."""
    beats = tempo_map.beats()
    first, last = tempo_map.bar_range
    bars = np.arange(first, last + 1)
    slopes = np.append(np.diff(tempo_map.quarters) / np.diff(tempo_map.seconds), tempo_map.tail_slope)
    return {
        "version": 1,
        "duration": round(duration, 6),
        "beats": [
            {"time": round(float(t), 6), "bar": int(bar), "beat": int(beat), "confidence": round(float(c), 3)}
            for t, bar, beat, c in zip(beats.seconds, beats.bar, beats.beat, result.confidence, strict=True)
        ],
        "bars": [
            {
                "number": int(bar),
                "time": round(float(t), 6),
                "numerator": tempo_map.meters.meter_at(int(bar)).numerator,
                "denominator": tempo_map.meters.meter_at(int(bar)).denominator,
            }
            for bar, t in zip(bars, tempo_map.bar_seconds(bars), strict=True)
        ],
        "tempo": [
            {"time": round(float(t), 6), "quarters": float(q), "bpm": round(float(60 * s), 4)}
            for t, q, s in zip(tempo_map.seconds, tempo_map.quarters, slopes, strict=True)
        ],
        "guide": [{"file": rank.name, "weight": round(rank.weight, 4)} for rank in result.guides],
        "doubts": [d.to_json() for d in result.doubts],
    }
