"""The map as the page draws it: compact arrays, all musical reckoning done."""

import numpy as np

from core.tempomap import TempoMap


def grid(tempo_map: TempoMap) -> dict:
    """Beats (seconds, bar, beat in bar, felt-beat index of the first), tempo and meters as drawn.

    ``bpm[i]`` is the felt tempo from beat i to the next; times are exact to 0.1 µs.
    """
    beats = tempo_map.beats()
    after = tempo_map.seconds_of_beat(beats.index[-1] + 1)
    bpm = 60 / np.diff(np.append(beats.seconds, after))
    pinned = tempo_map.quarters[tempo_map.pins]
    places = np.round(tempo_map.meters.beat_of_quarters(pinned)).astype(int) if len(pinned) else np.zeros(0, int)
    meters = [
        {"bar": c.bar, "time": round(float(tempo_map.bar_seconds(c.bar)), 7), "text": c.meter.felt}
        for c in tempo_map.meters.changes
    ]
    return {
        "time": np.round(beats.seconds, 7),
        "bar": beats.bar,
        "beat": beats.beat,
        "first": int(beats.index[0]),
        "bpm": np.round(bpm, 3),
        "pins": places,
        "meters": meters,
    }
