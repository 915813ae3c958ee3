"""Quantising with the map: notes pulled toward a grid of musical positions, by a chosen strength, within a chosen
window."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from core.errors import InputError
from core.notes import SHORTEST, ScoreNote, bar_and_offset, quarter_of_note
from core.tempomap import Meters
from core.tempomap.note_grid import Grid


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
    as they are. Raises :class:`core.errors.InputError`.
    """
    if not (0 <= strength <= 1 and 0 < window <= 1):
        raise InputError("Strength and window lie between 0 and 100 percent.")
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
