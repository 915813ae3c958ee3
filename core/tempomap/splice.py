"""Stretches of a map replaced: by beats that were detected or tapped, by a count of bars; and the ends of the music."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from core.tempomap.bar_lines import lines_of, usual_meter, with_lines
from core.tempomap.edits import EditError, pins_of, with_every_beat
from core.tempomap.meter import EPSILON, Meter, Meters
from core.tempomap.tempomap import TempoMap

#: Beats by which a new beat may lie beside a fixed time and still be meant by it, and beyond an end of a stretch.
_MEANT, _OUTSIDE = 0.3, 0.4
#: Seconds a beat between which a number of bars is believed.
BEAT_SECONDS = (0.1, 6.0)


def splice(
    tempo_map: TempoMap, seconds: ArrayLike, pins: ArrayLike | None = None, meters: Meters | None = None
) -> TempoMap:
    """Put consecutive felt beats at ``seconds`` where the map had others. Beats more than half a gap before the
    first or after the last stay to the bit; those after are renumbered where the count changes, changes of meter with
    them, and the first new beat follows the last kept one. ``pins``: which of the new beats are pinned;
    ``meters``: those of the new map, where they are not simply moved.

    Pins of the map in the stretch stay where they are: the nearest new beat goes there, or where none is near the pin
    stands between beats. Raises :class:`core.tempomap.edits.EditError`.
    """
    full = with_every_beat(tempo_map)
    new = np.asarray(seconds, dtype=np.float64)
    before, after = _around(full, new)
    pinned = np.zeros(len(new), dtype=bool) if pins is None else np.array(pins, dtype=bool)
    old = pins_of(full)
    new, place, pinned = _through(new, pinned, full.seconds[old & ~before & ~after])
    index = full.meters.beat_of_quarters(full.quarters)
    count = _count(full, before, float(new[0])) + place
    # points between beats (a pin that no beat falls on) keep their place between
    goes_on = np.ceil(index[after][:1] - EPSILON)
    later = index[after] - goes_on + count[-1] + 1
    if meters is None:
        meters = full.meters
        if len(goes_on):  # what changed at the last beat that is replaced changes at the last new one
            meters = meters.moved(round(goes_on[0]) - 1, round(count[-1] + 1 - goes_on[0]))
    return replace(full, meters=meters).with_points(
        np.concatenate([full.seconds[before], new, full.seconds[after]]),
        meters.quarters_of_beat(np.concatenate([index[before], count, later])),
        np.concatenate([old[before], pinned, old[after]]),
    )


def _through(
    new: NDArray[Any], pinned: NDArray[Any], fixed: NDArray[Any]
) -> tuple[NDArray[Any], NDArray[Any], NDArray[Any]]:
    """New beats that pass through the times ``fixed``: their seconds, their places (0 for the first), the pinned."""
    place = np.arange(len(new), dtype=np.float64)
    at = _at(fixed, new)
    near = np.abs(at - np.round(at)) < _MEANT
    beats = np.clip(np.round(at[near]), 0, len(new) - 1).astype(int)
    moved = new.copy()
    moved[beats] = np.where(pinned[beats], new[beats], fixed[near])  # the engineer's last word counts
    if len(set(beats.tolist())) < len(beats) or (np.diff(moved) <= 0).any():
        raise EditError("The pins in this stretch leave no room for these beats. Unpin what should give way.")
    kept = pinned.copy()
    kept[beats] = True
    between = fixed[~near]
    seconds = np.concatenate([moved, between])
    order = np.argsort(seconds, kind="stable")
    places = np.concatenate([place, _at(between, moved)])[order]
    return seconds[order], places, np.concatenate([kept, np.ones(len(between), dtype=bool)])[order]


def _at(seconds: NDArray[Any], beats: NDArray[Any]) -> NDArray[Any]:
    """Where times lie among ``beats``, 0 at the first; beyond them counted on in their first and last gap."""
    at = np.interp(seconds, beats, np.arange(len(beats), dtype=np.float64))
    early, late = np.minimum(seconds - beats[0], 0), np.maximum(seconds - beats[-1], 0)
    return np.asarray(at + early / (beats[1] - beats[0]) + late / (beats[-1] - beats[-2]))


def _around(full: TempoMap, new: NDArray[Any]) -> tuple[NDArray[Any], NDArray[Any]]:
    half = 0.5 * float(np.median(np.diff(new)))
    return full.seconds < new[0] - half, full.seconds > new[-1] + half


def _count(full: TempoMap, before: NDArray[Any], start: float) -> int:
    """The count of a new beat at ``start`` seconds: after the last kept one, else that of the beat it replaces."""
    index = full.meters.beat_of_quarters(full.quarters)
    return int(np.floor(index[before][-1] + EPSILON)) + 1 if before.any() else round(float(full.beat_index_at(start)))


def bars_between(tempo_map: TempoMap, start: float, end: float, bars: int, meter: Meter | None = None) -> TempoMap:
    """The stretch from ``start`` to ``end`` (seconds) is so many bars of ``meter`` (None: of the one that rules there).

    Its ends become pinned bar lines, its beats even. The beats outside stay, and so do their bar lines; a bar that the
    stretch cuts short becomes an odd bar. Pins in the stretch stay where they are.
    """
    full = with_every_beat(tempo_map)
    main = meter or full.meters.meter_at(int(full.meters.bars_at(full.quarters_at(start))))
    beats = bars * main.beats
    if bars < 1 or not BEAT_SECONDS[0] < (end - start) / beats < BEAT_SECONDS[1]:
        raise EditError(f"{bars} bars in {end - start:.2f} s is no tempo anybody plays.")
    new = np.linspace(start, end, beats + 1)
    old = pins_of(full)
    before, after = _outside(full, start, -1), _outside(full, end, 1)
    pinned = np.zeros(len(new), dtype=bool)
    pinned[[0, -1]] = True
    new, place, pinned = _through(new, pinned, full.seconds[old & ~before & ~after])
    index = full.meters.beat_of_quarters(full.quarters)
    first = int(np.floor(index[before][-1] + EPSILON)) + 1 if before.any() else round(float(full.beat_index_at(start)))
    goes_on = int(np.ceil(index[after][0] - EPSILON)) if after.any() else 0
    shift = first + beats + 1 - goes_on
    lines, usual = lines_of(full)
    seconds = full.seconds_of_beat(lines)
    usual = [*usual, usual[-1]]
    low = [(k, m) for k, m in zip(lines.tolist(), usual, strict=True) if k < first and seconds[0] < start]
    inner = [(first + k * main.beats, main) for k in range(bars)]
    rules = usual_meter(full, int(full.meters.bars_at(full.quarters_at(end) + EPSILON)))
    high = [(k + shift, m) for k, m in zip(lines.tolist(), usual, strict=True) if after.any() and k >= goes_on]
    opens = [(first + beats, rules)]
    high = [(k, m) for k, m in high if k > first + beats]
    whole = [*low, *inner, *opens, *high]
    points = np.concatenate([index[before], first + place, index[after] + shift])
    at = np.concatenate([full.seconds[before], new, full.seconds[after]])
    pins = np.concatenate([old[before], pinned, old[after]])
    # any map that has these points: its bars are laid over it
    made = full.with_points(at, full.meters.quarters_of_beat(points), pins)
    return with_lines(made, [k for k, _ in whole], [m for _, m in whole])


def _outside(full: TempoMap, end: float, side: int) -> NDArray[Any]:
    """The points before (``side`` -1) or after (1) an end of a stretch; the beat that the end means is none of them."""
    index = full.meters.beat_of_quarters(full.quarters)
    at = float(full.beat_index_at(end))
    return np.asarray((index - at) * side > _OUTSIDE)


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
    if seconds[0] < min(0.0, full.seconds[0]):
        raise EditError("A beat cannot lie before the recording starts.")
    return full.with_points(seconds, full.meters.quarters_of_beat(at[order]), pins)
