"""What the side panels tell of a map."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.formats import smf
from core.tempomap import TempoMap
from core.tempomap.edits import pins_of


def overall(tempo_map: TempoMap) -> dict[str, Any]:
    beats = tempo_map.beats()
    bpm = 60 / np.diff(beats.seconds)
    first, last = tempo_map.bar_range
    return {
        "beats": len(beats),
        "bars": max(0, last),
        "pickup": first < 1,
        "average": tempo_map.average_bpm,
        "slowest": float(np.percentile(bpm, 2)),
        "fastest": float(np.percentile(bpm, 98)),
        "meter": tempo_map.meters.meter_at(1).felt,
        "odd": len(tempo_map.meters.changes) - 1,
        "start": float(tempo_map.bar_seconds(1)),
        "points": len(tempo_map.seconds),
        "pins": int(pins_of(tempo_map).sum()),
    }


def beat(tempo_map: TempoMap, index: int) -> dict[str, Any] | None:
    """The felt beat ``index``: where it is, how fast, how long its bar is, and how that compares."""
    found = tempo_map.beats(index - 1, index + 1)
    bar = int(found.bar[1])
    edges = tempo_map.bar_seconds([bar - 1, bar, bar + 1])
    quarter = float(found.quarters[1])
    at = np.flatnonzero(np.abs(tempo_map.quarters - quarter) < 1e-6)
    return {
        "index": index,
        "bar": bar,
        "beat": int(found.beat[1]),
        "seconds": float(found.seconds[1]),
        "tempo": _tempo_words(found.seconds),
        "bar_seconds": float(edges[2] - edges[1]),
        "change": 1000 * float((edges[2] - edges[1]) - (edges[1] - edges[0])),
        "meter": tempo_map.meters.meter_at(bar).felt,
        "pinned": bool(len(at) and pins_of(tempo_map)[at[0]]),
    }


def _tempo_words(seconds: NDArray[np.float64]) -> str:
    """The tempo from the second of three beats on: to three decimals where it is steady."""
    before, after = 60 / np.diff(seconds)
    return f"{after:.3f}" if abs(after - before) < 0.002 else f"{after:.2f}"


def written(tempo_map: TempoMap) -> dict[str, Any]:
    """How the map goes into a MIDI file: lead-in and rounding error."""
    try:
        out = smf.write(tempo_map)
    except smf.MidiError as e:
        return {"error": str(e)}
    return {"lead_in": out.lead_in.words, "worst": out.worst * 1e6}
