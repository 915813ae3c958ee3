"""Sections as they are played: from bar line to bar line, at the samples of both; and the order as one piece."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.errors import InputError
from core.tempomap import Meter, MeterChange, Meters, TempoMap


@dataclass(frozen=True)
class BarRange:
    """Samples of a run of whole bars: ``start``, ``end`` and every line between and at the end at which it may be
    left."""

    first: int
    last: int
    start: int
    end: int
    lines: list[int]


def whole_bars(tempo_map: TempoMap, start: float, end: float, rate: int) -> BarRange:
    """The whole bars nearest to a stretch of seconds, at least one."""
    low, high = tempo_map.bar_range
    lines = np.asarray(tempo_map.bar_seconds(np.arange(low, high + 2)))
    first = low + int(np.argmin(np.abs(lines[:-1] - start)))
    last = max(first, low + int(np.argmin(np.abs(lines - end))) - 1)
    samples = [max(0, round(float(s) * rate)) for s in tempo_map.bar_seconds(np.arange(first, last + 2))]
    return BarRange(first, last, samples[0], samples[-1], samples[1:])


@dataclass(frozen=True)
class Passage:
    """Bars ``first`` to ``last`` of a take as they stand in an order: played at ``pace`` times their tempo, from second
    ``at`` of the order on, for ``seconds``."""

    first: int
    last: int
    pace: float
    at: float
    seconds: float


def passages(tempo_map: TempoMap, turns: Sequence[tuple[int, int, int, float]]) -> list[Passage]:
    """An order, given as first bar, last bar, how often, and pace: every passage one after another."""
    out: list[Passage] = []
    now = 0.0
    for first, last, times, pace in turns:
        start, end = tempo_map.bar_seconds([first, last + 1]).tolist()
        for _ in range(times):
            out.append(Passage(first, last, pace, now, (end - start) / pace))
            now = out[-1].at + out[-1].seconds
    return out


def order_map(tempo_map: TempoMap, order: Sequence[Passage]) -> TempoMap:
    """The map of an order from its first bar on, every beat as it is played. Raises
    :class:`core.errors.InputError` where it is empty."""
    if not order:
        raise InputError("The order is empty.")
    seconds: list[float] = []
    meters: list[Meter] = []
    for p in order:
        bars = range(p.first, p.last + 1)
        meters += [tempo_map.meters.meter_at(b) for b in bars]
        ends = tempo_map.meters.beat_of_quarters(tempo_map.meters.bar_quarters([p.first, p.last + 1]))
        index = np.arange(round(float(ends[0])), round(float(ends[1])))
        start = float(tempo_map.bar_seconds(p.first))
        seconds += ((tempo_map.seconds_of_beat(index) - start) / p.pace + p.at).tolist()
    seconds.append(order[-1].at + order[-1].seconds)
    changes = [MeterChange(k + 1, m) for k, m in enumerate(meters)]
    return TempoMap.from_beats(seconds, 0, Meters((*changes, MeterChange(len(meters) + 1, meters[-1]))))


def joined(before: NDArray[np.float32], lead: NDArray[np.float32]) -> NDArray[np.float32]:
    """The end of a passage, ``(frames, channels)``, that blends into what leads up to the next one (as many frames), so
    that a cut on a bar line is heard as none; powers add up."""
    rise = np.sin(0.5 * np.pi * (np.arange(len(lead)) + 0.5) / max(1, len(lead)))[:, None].astype(np.float32)
    out = before.copy()
    out[len(out) - len(lead) :] = out[len(out) - len(lead) :] * np.sqrt(1 - rise**2) + lead * rise
    return out
