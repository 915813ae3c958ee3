"""Quantising with the map: notes pulled toward a grid of musical positions, by a chosen strength, within a chosen
window."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from core.notes import SHORTEST, ScoreNote, bar_and_offset, quarter_of_note
from core.tempomap import Meters


@dataclass(frozen=True)
class Grid:
    """``note``: step in quarters; ``triplet``: three steps where there were two; ``swing``: where the second step of
    each pair falls, in percent of the pair: 50 even, 66.7 a ratio of 2:1 (the last triplet), 75 one of 3:1.

    The ratio of long to short is how swing is measured in the literature (Friberg and Sundström, "Swing ratios and
    ensemble timing in jazz performance", Music Perception 19, 2002). Raises ``ValueError``.
    """

    note: float = 0.5
    triplet: bool = False
    swing: float = 50.0

    def __post_init__(self) -> None:
        if not 1 / 32 <= self.note <= 8:
            raise ValueError("A grid's step lies between a 128th and two whole notes.")
        if not 50 <= self.swing <= 80:
            raise ValueError("Swing lies between 50 (even) and 80 percent.")

    @property
    def step(self) -> float:
        return self.note * (2 / 3 if self.triplet else 1)

    def places(self, quarters: float) -> NDArray[np.float64]:
        """The grid in a bar of that many quarters, its line and the next one included."""
        k = np.arange(int(np.ceil(quarters / self.step - 1e-9)))
        offsets = (k + (k % 2) * (self.swing / 50 - 1)) * self.step
        return np.append(offsets[offsets < quarters - 1e-9], quarters)


def quantise(
    notes: Sequence[ScoreNote],
    meters: Meters,
    grid: Grid = Grid(),
    strength: float = 1.0,
    window: float = 1.0,
    lengths: bool = False,
) -> list[ScoreNote]:
    """Each note moved by ``strength`` (0 to 1) of its way to the nearest place of the grid.

    ``window`` (0 to 1): only notes nearer to their place than that share of half a step; 1 takes all.
    ``lengths``: ends are pulled as well; otherwise notes keep their lengths. Notes that do not move are returned
    as they are. Raises ``ValueError``.
    """
    if not (0 <= strength <= 1 and 0 < window <= 1):
        raise ValueError("Strength and window lie between 0 and 100 percent.")
    out = []
    for n in notes:
        start = quarter_of_note(meters, n)
        to, near = _nearest(meters, grid, start, window)
        moved = start + strength * (to - start) if near else start
        length = n.length
        if lengths and near and strength:
            end, _ = _nearest(meters, grid, start + n.length, 1.0)
            end = max(end, to + grid.step)
            length = max(SHORTEST, n.length + strength * ((end - to) - n.length))
        if moved == start and length == n.length:
            out.append(n)
            continue
        bar, offset = bar_and_offset(meters, moved)
        out.append(replace(n, bar=bar, offset=offset, length=length))
    return out


def _nearest(meters: Meters, grid: Grid, quarter: float, window: float) -> tuple[float, bool]:
    """The nearest place of the grid, and whether the position lies inside the window around it."""
    bar = int(meters.bars_at(quarter))
    line = float(meters.bar_quarters(bar))
    places = line + grid.places(meters.meter_at(bar).quarters)
    to = float(places[int(np.argmin(np.abs(places - quarter)))])
    return to, bool(window >= 1 or abs(to - quarter) <= window * grid.step / 2 + 1e-12)
