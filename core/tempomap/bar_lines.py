"""Bar lines as a list of beats: kept where beats come or go between them, or laid on other beats. No beat moves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from core.tempomap.edits import EditError, pins_of, with_every_beat
from core.tempomap.meter import EPSILON, Ints, Meter, MeterChange, Meters
from core.tempomap.pulses import has_pulses
from core.tempomap.tempomap import TempoMap


def lines_of(tempo_map: TempoMap) -> tuple[Ints, list[Meter]]:
    """Felt-beat indices of the bar lines from bar 1 on, up to the first one at or after the last beat, ``(bars + 1,)``;
    and the meters of the bars between them, ``bars`` of them."""
    bars = np.arange(1, max(1, tempo_map.bar_range[1]) + 2)
    index = np.round(tempo_map.meters.beat_of_quarters(tempo_map.meters.bar_quarters(bars))).astype(np.int64)
    return index, [tempo_map.meters.meter_at(int(b)) for b in bars[:-1]]


def of_beats(meter: Meter, beats: int) -> Meter:
    """The meter of a bar of so many felt beats among bars of ``meter``: its own groups, cut short or repeated."""
    if beats == meter.beats:
        return meter
    groups = (meter.groups * (beats // meter.beats + 1))[:beats]
    if sum(groups) > 64:
        raise EditError(f"A bar of {beats} beats is longer than any that can be written.")
    return Meter(sum(groups), meter.denominator, groups)


def with_lines(tempo_map: TempoMap, lines: Sequence[int], meters: Sequence[Meter]) -> TempoMap:
    """The same beats with bar lines on the felt beats ``lines`` (indices, rising); the first opens bar 1.

    ``meters``: the usual meter of each bar from bar 1 on; a bar with another number of beats becomes an odd bar of it.
    The last one goes on behind the last line. Raises :class:`core.tempomap.edits.EditError`.
    """
    if not lines:
        raise EditError("Bar 1 has to start inside the mapped music.")
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters) - lines[0]
    if index[-1] < 1:
        raise EditError("Bar 1 has to start inside the mapped music.")
    lengths = np.diff(lines).tolist()
    usual = [*meters, *([meters[-1]] * (len(lengths) + 1))][: len(lengths) + 1]
    bars = [of_beats(m, n) for m, n in zip(usual, lengths, strict=False)]
    changes = [MeterChange(1 + k, m) for k, m in enumerate([*bars, usual[-1]])]
    table = Meters(tuple(changes))
    return replace(full, meters=table).with_points(full.seconds, table.quarters_of_beat(index), pins_of(full))


def with_lines_moved(tempo_map: TempoMap, by: int, first: int, last: int) -> TempoMap:
    """The same beats with the bar lines on beats ``first`` to ``last`` so many beats later; where they meet the others
    an odd bar stands. Raises :class:`core.tempomap.edits.EditError`."""
    lines, meters = lines_of(tempo_map)
    pairs = list(zip(lines.tolist(), [*meters, meters[-1]], strict=True))
    before, after = [p for p in pairs if p[0] < first], [p for p in pairs if p[0] > last]
    low = before[-1][0] if before else int(tempo_map.beats().index[0]) - 1
    high = after[0][0] if after else int(tempo_map.beats().index[-1]) + 1
    moved = [(k + by, m) for k, m in pairs if first <= k <= last and low < k + by < high]
    made = [*before, *moved, *after]
    return with_lines(tempo_map, [k for k, _ in made], [m for _, m in made])


def with_lines_kept(before: TempoMap, after: TempoMap, anew: tuple[float, float] | None = None) -> TempoMap:
    """``after``, in which beats came or went, with the bar lines of ``before``: each stays on its beat, or on the
    nearest one where its own is gone. A bar that has another number of beats now is an odd bar; one without any is
    gone. Between the times ``anew`` (seconds) bars are counted from the line before in its meter."""
    old, meters = lines_of(before)
    full = with_every_beat(after)
    seconds = before.seconds_of_beat(old)
    at = full.beat_index_at(seconds)
    lines = np.round(at).astype(np.int64)
    last = int(full.beats().index[-1])
    if has_pulses(before) and (np.abs(at - lines)[lines <= last] > 0.01).any():
        return after  # bars of unequal beats are counted on their pulse, and their lines with it
    given = np.ones(len(lines), dtype=bool)
    if anew is not None:
        given = (seconds <= anew[0] + EPSILON) | (seconds >= anew[1] - EPSILON)
    kept: list[int] = []
    usual: list[Meter] = []
    for line, meter, stays in zip(lines.tolist(), [*meters, meters[-1]], given.tolist(), strict=True):
        if not stays or (kept and line <= kept[-1]):
            continue
        while anew is not None and kept and kept[-1] + usual[-1].beats < line and not _was_bar(lines, kept[-1], line):
            kept.append(kept[-1] + usual[-1].beats)
            usual.append(usual[-1])
        if kept and line > last + meter.beats:
            break
        kept.append(line)
        usual.append(meter)
    return with_lines(full, kept, usual)


def _was_bar(lines: Ints, opens: int, closes: int) -> bool:
    """Whether two lines stood side by side before."""
    k = np.flatnonzero(lines == opens)
    return bool(len(k)) and int(k[-1]) + 1 < len(lines) and int(lines[k[-1] + 1]) == closes


def usual_meter(tempo_map: TempoMap, bar: int) -> Meter:
    """The meter that rules around a bar: its own, or where it alone has that, the one of the bar before (or after)."""
    meters = tempo_map.meters
    here, before, after = (meters.meter_at(b) for b in (bar, bar - 1, bar + 1))
    if bar <= 1:
        return here if here == after else after
    return here if here in (before, after) else before
