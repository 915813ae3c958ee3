"""How far an edit carries: one beat, all that follow, a whole map moved or counted anew.

Times are seconds, beats felt-beat indices. Pins inside the reach stop it; what lies beyond stays to the bit.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from core.tempomap.edits import EditError, move_beat, pins_of, rescaled_meters, with_every_beat
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
    return _pinned(_moved(full, np.where(here, full.seconds + by, full.seconds)), beat)


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
    return _pinned(_moved(full, np.where(moving, start + (full.seconds - start) * ratio, full.seconds)), beat)


def _onward(tempo_map: TempoMap, beat: int) -> tuple[TempoMap, np.ndarray]:
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    if not index[0] - EPSILON <= beat <= index[-1] + EPSILON:
        raise EditError("That beat lies outside the mapped music.")
    later = np.flatnonzero((index > beat + EPSILON) & pins_of(full))
    stop = index[later[0]] if len(later) else np.inf
    return full, (index >= beat - EPSILON) & (index < stop - EPSILON)


def _moved(full: TempoMap, seconds: np.ndarray) -> TempoMap:
    if (np.diff(seconds) < 0.02).any():
        raise EditError("The beats would run into one another at the next pin.")
    if seconds[0] < 0:
        raise EditError("A beat cannot lie before the recording starts.")
    return full.with_points(seconds, full.quarters, pins_of(full))


def _pinned(tempo_map: TempoMap, beat: int) -> TempoMap:
    return move_beat(tempo_map, beat, float(tempo_map.seconds_of_beat(beat)))


# ---- counting anew


def rescale(
    tempo_map: TempoMap, times: int, over: int, first: int | None = None, last: int | None = None, offset: int = 0
) -> TempoMap:
    """``times`` beats where there were ``over``: 1:2 halves the tempo, 3:2 makes three beats of two.

    Beats that fall on old ones keep their time to the bit. For the whole map bar 1 stays, or moves on by
    ``offset`` old beats, and bars keep their meters. In a stretch ``first`` to ``last`` the beats after it are
    renumbered and stay where they are.
    """
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    whole = np.round(index).astype(int)
    if first is None or last is None:
        lo, hi = int(whole[0]), int(whole[-1])
        j = np.arange(-((offset - lo) * times // over), (hi - offset) * times // over + 1)
        at = j * over / times + offset
        meters = rescaled_meters(full, times, over)
    else:
        n = last - first
        if n < 1 or first < whole[0] or last > whole[-1]:
            raise EditError("Choose a stretch inside the mapped music.")
        if n * times % over:
            raise EditError(f"{n} beats cannot be counted {times} for {over}: choose a stretch that {over} divides.")
        inside = first + np.arange(n * times // over + 1) * over / times
        before, after = np.arange(whole[0], first), np.arange(last + 1, whole[-1] + 1)
        at = np.concatenate([before, inside, after])
        # what was counted before the stretch keeps its count, unless bar 1 lies behind it
        shift_by = n * times // over - n
        j = whole[0] + np.arange(len(at)) - (shift_by if last <= 0 else 0)
        meters = full.meters
    if len(j) < 2:
        raise EditError("There are too few beats for that.")
    t = full.seconds_of_beat(at)
    if (np.diff(t) < 0.1).any():
        raise EditError("The beats would follow faster than anybody counts.")
    old = pins_of(full)
    pins = np.isin(np.round(at, 9), whole[old])
    return replace(full, meters=meters).with_points(t, meters.quarters_of_beat(j), pins)


def renumber(tempo_map: TempoMap, beat: int, bar: int) -> TempoMap:
    """Let ``beat`` open ``bar``; no beat moves in time. The meters keep their bar numbers."""
    full = with_every_beat(tempo_map)
    to = round(float(full.meters.beat_of_quarters(full.meters.bar_quarters(bar))))
    index = full.meters.beat_of_quarters(full.quarters) - beat + to
    if index[0] > EPSILON and full.seconds[0] - index[0] * (full.seconds[1] - full.seconds[0]) < 0:
        raise EditError(f"Bar 1 would lie before the recording starts if this were bar {bar}.")
    if index[-1] < 1:
        raise EditError("Bar 1 has to start inside the mapped music.")
    return full.with_points(full.seconds, full.meters.quarters_of_beat(index), pins_of(full))


def between(tempo_map: TempoMap, first: int, last: int) -> TempoMap:
    """Let the mapped music start at beat ``first`` and end at beat ``last``; beyond its points it is continued."""
    if last - first < 2:
        raise EditError("Mapped music needs at least three beats.")
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    wanted = np.arange(first, last + 1)
    keep = (index >= first - EPSILON) & (index <= last + EPSILON)
    more = wanted[(wanted < index[0] - EPSILON) | (wanted > index[-1] + EPSILON)]
    at = np.concatenate([index[keep], more])
    order = np.argsort(at)
    seconds = np.concatenate([full.seconds[keep], full.seconds_of_beat(more)])[order]
    pins = np.concatenate([pins_of(full)[keep], np.zeros(len(more), dtype=bool)])[order]
    if seconds[0] < 0:
        raise EditError("A beat cannot lie before the recording starts.")
    return full.with_points(seconds, full.meters.quarters_of_beat(at[order]), pins)
