"""The beats of a stretch that was chosen, and the stretch in words."""

from __future__ import annotations

import numpy as np

from core.document.commands import Stretch
from core.tempomap import TempoMap
from core.tempomap.edits import EditError
from core.tempomap.position import words_at


def beats_in(tempo_map: TempoMap, stretch: Stretch | None) -> tuple[int, int] | None:
    """The felt beats nearest to the ends of a stretch; None where none is chosen."""
    if stretch is None:
        return None
    a, b = sorted(stretch)
    index = tempo_map.beats().index
    first, last = np.clip(np.round(tempo_map.beat_index_at([a, b])), index[0], index[-1]).astype(int)
    if last - first < 1:
        raise EditError("The chosen stretch holds no beats of the map.")
    return int(first), int(last)


def where(tempo_map: TempoMap, chosen: tuple[int, int] | None) -> str:
    """Like " from bar 3 to bar 7", or nothing for the whole map."""
    if chosen is None:
        return ""
    first, last = chosen
    return f" from {words_at(tempo_map, first)} to {words_at(tempo_map, last)}"
