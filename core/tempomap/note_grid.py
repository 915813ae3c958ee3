"""A grid of note values over the bars: where notes and attacks are pulled to."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.errors import InputError
from core.tempomap.tempomap import TempoMap


@dataclass(frozen=True)
class Grid:
    """``note``: step in quarters; ``triplet``: three steps where there were two; ``swing``: where the second step of
    each pair falls, in percent of the pair: 50 even, 66.7 a ratio of 2:1 (the last triplet), 75 one of 3:1.

    The ratio of long to short is how swing is measured in the literature (Friberg and Sundström, "Swing ratios and
    ensemble timing in jazz performance", Music Perception 19, 2002). Raises :class:`core.errors.InputError`.
    """

    note: float = 0.5
    triplet: bool = False
    swing: float = 50.0

    def __post_init__(self) -> None:
        if not 1 / 32 <= self.note <= 8:
            raise InputError("A grid's step lies between a 128th and two whole notes.")
        if not 50 <= self.swing <= 80:
            raise InputError("Swing lies between 50 (even) and 80 percent.")

    @property
    def step(self) -> float:
        return self.note * (2 / 3 if self.triplet else 1)

    def places(self, quarters: float) -> NDArray[np.float64]:
        """The grid in a bar of that many quarters, its line and the next one included."""
        k = np.arange(int(np.ceil(quarters / self.step - 1e-9)))
        offsets = (k + (k % 2) * (self.swing / 50 - 1)) * self.step
        return np.append(offsets[offsets < quarters - 1e-9], quarters)


def grid_seconds(tempo_map: TempoMap, grid: Grid, start: float, end: float) -> NDArray[np.float64]:
    """Seconds of all places of the grid from ``start`` to ``end``; it begins anew at every bar line."""
    first, last = (int(b) for b in tempo_map.meters.bars_at(tempo_map.quarters_at(np.array([start, end]))))
    lines = tempo_map.meters.bar_quarters(np.arange(first, last + 2))
    quarters = [line + grid.places(float(on - line))[:-1] for line, on in zip(lines[:-1], lines[1:], strict=True)]
    seconds = tempo_map.seconds_at(np.concatenate([*quarters, lines[-1:]]))
    return np.asarray(seconds[(seconds >= start) & (seconds <= end)])
