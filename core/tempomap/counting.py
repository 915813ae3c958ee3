"""Counting again: more beats or fewer in the same time, other bar numbers. Beats that stay keep their time to the
bit."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from core.tempomap.edits import EditError, pins_of, with_every_beat
from core.tempomap.limits import CLOSEST
from core.tempomap.meter import EPSILON, Meter, MeterChange, Meters
from core.tempomap.tempomap import TempoMap


def rescale(
    tempo_map: TempoMap, times: int, over: int, first: int | None = None, last: int | None = None, offset: int = 0
) -> TempoMap:
    """``times`` beats where there were ``over``: 1:2 halves the tempo, 3:2 makes three beats of two.

    Beats that fall on old ones keep their time to the bit, and so does every pin, if need be between the beats.
    For the whole map bar 1 stays, or moves on by ``offset`` old beats, and bars keep their meters; a bar left over
    where the meter changes becomes an odd bar. In a stretch ``first`` to ``last`` the beats after it are
    renumbered and stay where they are.
    """
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    ends = round(float(index[0])), round(float(index[-1]))
    if first is None or last is None:
        count = np.arange(-((offset - ends[0]) * times // over), (ends[1] - offset) * times // over + 1)
        at = count * over / times + offset
        meters = rescaled_meters(full, times, over)
    else:
        n = last - first
        if n < 1 or first < ends[0] or last > ends[1]:
            raise EditError("Choose a stretch inside the mapped music.")
        if n * times % over:
            fit = f"{over}, {2 * over}, {3 * over} or so on"
            raise EditError(f"Beats in this stretch: {n}. To count {times} for {over}, choose a stretch of {fit}.")
        inside = first + np.arange(n * times // over + 1) * over / times
        at = np.concatenate([np.arange(ends[0], first), inside, np.arange(last + 1, ends[1] + 1)])
        # what was counted before the stretch keeps its count, unless bar 1 lies behind it
        count = ends[0] + np.arange(len(at)) - (n * times // over - n if last <= 0 else 0)
        meters = full.meters.moved(last, n * times // over - n) if last > 0 else full.meters
    if len(count) < 2:
        raise EditError("There are too few beats for that.")
    if (np.diff(full.seconds_of_beat(at)) < CLOSEST).any():
        raise EditError("The beats would follow faster than anybody counts.")
    pinned = index[pins_of(full)]
    pinned = pinned[(pinned >= at[0] - EPSILON) & (pinned <= at[-1] + EPSILON)]
    homeless = pinned[np.abs(pinned[:, None] - at[None, :]).min(axis=1) > EPSILON] if len(pinned) else pinned
    places = np.interp(np.concatenate([at, homeless]), at, count)
    at = np.concatenate([at, homeless])
    order = np.argsort(at)
    pins = np.array([bool(len(pinned)) and bool(np.abs(pinned - x).min() <= EPSILON) for x in at[order]])
    return replace(full, meters=meters).with_points(
        full.seconds_of_beat(at[order]), meters.quarters_of_beat(places[order]), pins
    )


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


def rescaled_meters(tempo_map: TempoMap, times: int, over: int) -> Meters:
    """The meters after all quarters were multiplied by ``times / over``.

    Every stretch of one meter keeps it for as many whole bars as fit; what is left becomes one odd bar. Where a stretch
    would begin between two counts, it begins on the one before.
    """
    changes = tempo_map.meters.changes
    out: list[MeterChange] = []
    bar, left = 1, 0  # left: what stretches so far are longer than their whole counts, in parts of a count
    for change, following in zip(changes, [*changes[1:], None], strict=True):
        out.append(MeterChange(bar, change.meter))
        if following is None:
            break
        counts, left = divmod((following.bar - change.bar) * change.meter.numerator * times + left, over)
        whole, rest = divmod(counts, change.meter.numerator)
        if not whole:
            out.pop()
        bar += whole
        if rest:
            out.append(MeterChange(bar, Meter(rest, change.meter.denominator)))
            bar += 1
    return Meters(tuple(out))
