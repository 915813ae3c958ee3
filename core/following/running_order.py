"""A section as it is played live: from bar line to bar line, at the samples of both."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from core.tempomap import TempoMap


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
