"""Some bars of one map in place of what another one has there."""

from __future__ import annotations

import numpy as np

from core.tempomap.bar_lines import lines_of, with_lines
from core.tempomap.edits import EditError
from core.tempomap.splice import splice
from core.tempomap.tempomap import TempoMap

#: Bar lines nearer than this to an end of the new bars, in beats, are the line at that end.
_AT_END = 0.4


def with_bars_of(tempo_map: TempoMap, other: TempoMap, first: int, last: int) -> TempoMap:
    """The map with the bars ``first`` to ``last`` of another one, at their times: its beats, bar lines and meters. What
    lies before and after them stays, pins too; where the old bar lines do not meet the new ones, an odd bar is left.

    Raises :class:`core.tempomap.edits.EditError`.
    """
    lines, meters = lines_of(other)
    if not 1 <= first <= last <= len(meters):
        raise EditError(f"That map has bars 1 to {len(meters)}.")
    new_lines = lines[first - 1 : last + 1]
    beats = np.arange(new_lines[0], new_lines[-1] + 1)
    seconds = other.seconds_of_beat(beats)
    merged = splice(tempo_map, seconds)
    old_lines, old_meters = lines_of(tempo_map)
    old = tempo_map.seconds_of_beat(old_lines)
    gap = _AT_END * float(np.median(np.diff(seconds)))
    before, after = old < seconds[0] - gap, old > seconds[-1] + gap
    follows = [*old_meters, old_meters[-1]]
    at = [*old[before], *other.seconds_of_beat(new_lines), *old[after]]
    kinds = [m for m, keep in zip(follows, before, strict=True) if keep] + meters[first - 1 : last]
    kinds.append(follows[min(int(np.count_nonzero(~after)), len(follows) - 1)])
    kinds += [m for m, keep in zip(follows, after, strict=True) if keep]
    index = np.round(merged.beat_index_at(np.array(at))).astype(np.int64)
    return with_lines(merged, np.unique(index).tolist(), kinds)
