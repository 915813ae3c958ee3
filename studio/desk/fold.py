"""The fold: one row a bar, its beats as columns. Energy and attacks of one track at their musical places."""

import base64
from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.listening.attacks import Attacks
from core.listening.rates import FRAME_RATE
from core.tempomap import TempoMap

#: Columns of energy a felt beat.
COLUMNS = 24


def fold(tempo_map: TempoMap, level: NDArray[Any], a: Attacks) -> dict[str, Any]:
    """Rows for every bar that the mapped music touches, from a track's energy (a value a frame) and attacks.

    ``bars``: bar, seconds of its start and end, felt beats, felt-beat index of its first; ``energy``: bytes in
    base64, :data:`COLUMNS` a felt beat, row after row; ``attacks``: row, place in felt beats from the bar line,
    strength, seconds; ``off``: by how many ms the strong attacks of each bar miss their beats or half-beats.
    """
    first, last = tempo_map.bar_range
    bars = np.arange(first, last + 2)
    lines = tempo_map.meters.bar_quarters(bars)
    index = np.round(tempo_map.meters.beat_of_quarters(lines)).astype(int)
    places = index[0] + np.arange((index[-1] - index[0]) * COLUMNS + 1) / COLUMNS
    frames = tempo_map.seconds_of_beat(places) * FRAME_RATE
    sums = np.concatenate([[0.0], np.cumsum(level)])
    # the mean over each column, between frames too, so that no attack falls through
    at = np.interp(frames, np.arange(len(sums)), sums, left=0.0, right=sums[-1])
    energy = np.diff(at) / np.maximum(np.diff(frames), 1e-9)
    top = np.percentile(energy[energy > 0], 99) if (energy > 0).any() else 1.0
    shades = np.clip(255 * (energy / top) ** 1.5, 0, 255).astype(np.uint8)
    where = tempo_map.beat_index_at(a.seconds)
    row = np.searchsorted(index, where + 0.25, side="right") - 1  # a little early is still this bar's
    inside = (row >= 0) & (row < len(bars) - 1) & (a.strength > 0.05)
    row = row[inside]
    place = where[inside] - index[row]
    gap = np.diff(tempo_map.bar_seconds(bars)) / np.maximum(np.diff(index), 1)
    missed = np.abs(place - np.round(2 * place) / 2) * gap[row] * a.strength[inside]
    weight = np.bincount(row, a.strength[inside], len(bars) - 1)
    off = 1000 * np.bincount(row, missed, len(bars) - 1) / np.maximum(weight, 1e-9)
    return {
        "columns": COLUMNS,
        "bars": bars[:-1],
        "beats": np.diff(index),
        "first": index[:-1],
        "start": tempo_map.bar_seconds(bars[:-1]).round(6),
        "end": tempo_map.bar_seconds(bars[1:]).round(6),
        "energy": base64.b64encode(shades.tobytes()).decode(),
        "off": off.round(1),
        "row": row,
        "place": place.round(5),
        "strength": a.strength[inside].round(3),
        "seconds": a.seconds[inside].round(6),
    }
