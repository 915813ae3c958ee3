"""How far an edit carries: all that follow, as they are or stretched, or the whole map moved.

Times are seconds, beats felt-beat indices. Pins inside the reach stop it; what lies beyond stays to the bit.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.tempomap.edits import EditError, pins_of, set_pin, with_every_beat
from core.tempomap.meter import EPSILON
from core.tempomap.tempomap import TempoMap


def shift(tempo_map: TempoMap, by: float, first: int | None = None) -> TempoMap:
    """Move the whole map, pins too, or all from beat ``first`` up to the next pin, by ``by`` seconds."""
    if first is None:
        if tempo_map.seconds[0] + by < 0:
            raise EditError("The first beat cannot lie before the recording starts.")
        return tempo_map.with_points(tempo_map.seconds + by, tempo_map.quarters, pins_of(tempo_map))
    full, here = _onward(tempo_map, first)
    return _moved(full, np.where(here, full.seconds + by, full.seconds))


def shift_by_beats(tempo_map: TempoMap, share: float) -> TempoMap:
    """Move every beat by a share of the gap to its neighbour (0.5: the off-beats become the beats)."""
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    return _moved(full, full.seconds_of_beat(index + share))


def onward(tempo_map: TempoMap, beat: int, seconds: float) -> TempoMap:
    """Put ``beat`` at ``seconds`` and pin it; all that follow, up to the next pin, keep their tempos."""
    full, here = _onward(tempo_map, beat)
    by = seconds - float(full.seconds_of_beat(beat))
    return set_pin(_moved(full, np.where(here, full.seconds + by, full.seconds)), beat, True)


def stretch_onward(tempo_map: TempoMap, beat: int, seconds: float) -> TempoMap:
    """Put ``beat`` at ``seconds`` and pin it; the tempo that this makes since the last pin (or bar 1, or the
    first beat) goes on up to the next pin."""
    full, here = _onward(tempo_map, beat)
    index = full.meters.beat_of_quarters(full.quarters)
    anchors = np.flatnonzero((index < beat - EPSILON) & (pins_of(full) | (np.abs(index) < EPSILON)))
    i = int(anchors[-1]) if len(anchors) else 0
    start, old = float(full.seconds[i]), float(full.seconds_of_beat(beat))
    if old <= start or seconds <= start:
        raise EditError("A beat cannot pass the pin before it.")
    ratio = (seconds - start) / (old - start)
    moving = here | ((index > index[i] + EPSILON) & (index < beat - EPSILON))
    return set_pin(_moved(full, np.where(moving, start + (full.seconds - start) * ratio, full.seconds)), beat, True)


def _onward(tempo_map: TempoMap, beat: int) -> tuple[TempoMap, NDArray[Any]]:
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    if not index[0] - EPSILON <= beat <= index[-1] + EPSILON:
        raise EditError("That beat lies outside the mapped music.")
    later = np.flatnonzero((index > beat + EPSILON) & pins_of(full))
    stop = index[later[0]] if len(later) else np.inf
    return full, (index >= beat - EPSILON) & (index < stop - EPSILON)


def _moved(full: TempoMap, seconds: NDArray[Any]) -> TempoMap:
    if (np.diff(seconds) < 0.02).any():
        raise EditError("The beats would run into one another at the next pin.")
    if seconds[0] < 0:
        raise EditError("A beat cannot lie before the recording starts.")
    return full.with_points(seconds, full.quarters, pins_of(full))
