"""The map as the page draws it: compact arrays, everything musical already calculated."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.tempomap import TempoMap
from core.tempomap.tempomap import Beats


def grid(tempo_map: TempoMap) -> dict[str, Any]:
    """Beats (seconds, bar, beat in bar, felt-beat index of the first), tempo and meters as drawn.

    ``bpm[i]`` is the felt tempo from beat i to the next; times are exact to 0.1 µs.
    """
    beats = tempo_map.beats()
    return {
        **_rows(tempo_map, beats),
        "bar": beats.bar,
        "beat": beats.beat,
        "first": int(beats.index[0]),
    }


def _rows(tempo_map: TempoMap, beats: Beats) -> dict[str, Any]:
    """What edits change most often."""
    pinned = tempo_map.quarters[tempo_map.pins]
    places = np.round(tempo_map.meters.beat_of_quarters(pinned)).astype(int) if len(pinned) else np.zeros(0, int)
    meters = [
        {"bar": c.bar, "time": round(float(tempo_map.bar_seconds(c.bar)), 7), "text": c.meter.felt}
        for c in tempo_map.meters.changes
    ]
    return {"time": np.round(beats.seconds, 7), "bpm": _tempos(tempo_map, beats), "pins": places, "meters": meters}


def _tempos(tempo_map: TempoMap, beats: Beats) -> NDArray[Any]:
    after = tempo_map.seconds_of_beat(beats.index[-1] + 1)
    return np.round(60 / np.diff(np.append(beats.seconds, after)), 3)


def change(before: TempoMap, after: TempoMap) -> dict[str, Any] | None:
    """How the grid of ``after`` differs from that of ``before``, for a page that has the latter: time and tempo of the
    beats from the place ``from`` on, pins and meters. None where beats came or went or bars changed."""
    old, new = before.beats(), after.beats()
    if before.meters != after.meters or len(old) != len(new) or old.index[0] != new.index[0]:
        return None
    whole = _rows(after, new)
    others = np.flatnonzero((old.seconds != new.seconds) | (_tempos(before, old) != whole["bpm"]))
    place = slice(int(others[0]), int(others[-1]) + 1) if len(others) else slice(0, 0)
    return {**whole, "from": place.start, "time": whole["time"][place], "bpm": whole["bpm"][place]}
