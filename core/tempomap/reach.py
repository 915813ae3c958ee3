"""How far an edit carries: bent to the next pins, all that follow, as they are or stretched, or the whole map moved.

Times are seconds, beats felt-beat indices. Pins stop it, and so do the times ``stops`` (beats of locked stretches);
what lies beyond stays to the bit.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.tempomap.edits import EditError, pins_of, set_pin, with_every_beat
from core.tempomap.limits import CLOSEST
from core.tempomap.meter import EPSILON
from core.tempomap.tempomap import TempoMap

#: Beats on either side of a moved one that bend with it, where no pin is nearer.
BENT = 8


def shift(tempo_map: TempoMap, by: float, first: int | None = None, last: int | None = None) -> TempoMap:
    """Move the whole map, or beats ``first`` to ``last``, by ``by`` seconds, pins too."""
    if first is not None and last is not None:
        full = with_every_beat(tempo_map)
        return _moved(full, np.where(_inside(full, first, last), full.seconds + by, full.seconds))
    if tempo_map.seconds[0] + by < min(0.0, tempo_map.seconds[0]):  # a machine may begin a few ms before the recording
        raise EditError("The first beat cannot lie before the recording starts.")
    return tempo_map.with_points(tempo_map.seconds + by, tempo_map.quarters, pins_of(tempo_map))


def shift_by_beats(tempo_map: TempoMap, share: float, first: int | None = None, last: int | None = None) -> TempoMap:
    """Move every beat, or beats ``first`` to ``last``, by a share of the gap to its neighbour (0.5: the off-beats
    become the beats)."""
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    moves = _inside(full, first, last) if first is not None and last is not None else True
    return _moved(full, full.seconds_of_beat(index + np.where(moves, share, 0.0)))


def _inside(full: TempoMap, first: int, last: int) -> NDArray[np.bool_]:
    """Which points lie at beats ``first`` to ``last`` or between them."""
    index = full.meters.beat_of_quarters(full.quarters)
    return (index >= first - EPSILON) & (index <= last + EPSILON)


def bend(tempo_map: TempoMap, beat: int, seconds: float, stops: Sequence[float] = ()) -> TempoMap:
    """Put ``beat`` at ``seconds`` and pin it; the beats on both sides give way smoothly (half a cosine), up to the next
    pin or :data:`BENT` beats away."""
    full, _ = _onward(tempo_map, beat, stops)
    index = full.meters.beat_of_quarters(full.quarters)
    fixed = index[_fixed(full, stops)]
    first = max([beat - BENT, *fixed[fixed < beat - EPSILON].tolist()])
    last = min([beat + BENT, *fixed[fixed > beat + EPSILON].tolist()])
    away = np.where(index < beat, (beat - index) / (beat - first), (index - beat) / (last - beat))
    share = np.where(away < 1, 0.5 + 0.5 * np.cos(np.pi * np.minimum(away, 1)), 0.0)
    by = seconds - float(full.seconds_of_beat(beat))
    return set_pin(_moved(full, np.where(share > 0, full.seconds + by * share, full.seconds)), beat, True)


def onward(tempo_map: TempoMap, beat: int, seconds: float, stops: Sequence[float] = ()) -> TempoMap:
    """Put ``beat`` at ``seconds`` and pin it; all that follow, up to the next pin, keep their tempos."""
    full, here = _onward(tempo_map, beat, stops)
    by = seconds - float(full.seconds_of_beat(beat))
    return set_pin(_moved(full, np.where(here, full.seconds + by, full.seconds)), beat, True)


def stretch_onward(tempo_map: TempoMap, beat: int, seconds: float, stops: Sequence[float] = ()) -> TempoMap:
    """Put ``beat`` at ``seconds`` and pin it; the tempo that this makes since the last pin (or bar 1, or the
    first beat) goes on up to the next pin."""
    full, here = _onward(tempo_map, beat, stops)
    index = full.meters.beat_of_quarters(full.quarters)
    anchors = np.flatnonzero((index < beat - EPSILON) & (_fixed(full, stops) | (np.abs(index) < EPSILON)))
    i = int(anchors[-1]) if len(anchors) else 0
    start, old = float(full.seconds[i]), float(full.seconds_of_beat(beat))
    if old <= start or seconds <= start:
        raise EditError("A beat cannot pass the pin before it.")
    ratio = (seconds - start) / (old - start)
    moving = here | ((index > index[i] + EPSILON) & (index < beat - EPSILON))
    return set_pin(_moved(full, np.where(moving, start + (full.seconds - start) * ratio, full.seconds)), beat, True)


def _fixed(full: TempoMap, stops: Sequence[float]) -> NDArray[np.bool_]:
    """Which points no edit of another beat moves: pins, and those at the times ``stops``."""
    if not len(stops):
        return np.asarray(pins_of(full), dtype=bool)
    near = np.abs(full.seconds[:, None] - np.asarray(stops)[None, :]).min(axis=1)
    return np.asarray(pins_of(full) | (near < EPSILON), dtype=bool)


def _onward(tempo_map: TempoMap, beat: int, stops: Sequence[float] = ()) -> tuple[TempoMap, NDArray[Any]]:
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    if not index[0] - EPSILON <= beat <= index[-1] + EPSILON:
        raise EditError("That beat lies outside the mapped music.")
    later = np.flatnonzero((index > beat + EPSILON) & _fixed(full, stops))
    stop = index[later[0]] if len(later) else np.inf
    return full, (index >= beat - EPSILON) & (index < stop - EPSILON)


def _moved(full: TempoMap, seconds: NDArray[Any]) -> TempoMap:
    gaps = np.diff(seconds)
    # points closer than beats can be (pins between beats) stay as close as they are
    if (gaps < np.minimum(0.5 * CLOSEST, 0.5 * np.diff(full.seconds))).any():
        raise EditError("The beats would run into one another at the next pin.")
    if seconds[0] < min(0.0, full.seconds[0]):
        raise EditError("A beat cannot lie before the recording starts.")
    return full.with_points(seconds, full.quarters, pins_of(full))
