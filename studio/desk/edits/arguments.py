"""Arguments of edits, read from the request: times snapped to attacks, stretches snapped to beats."""

from typing import Any

import numpy as np

from core.listening.attacks import nearest_attack
from core.tempomap import TempoMap
from core.tempomap.edits import EditError
from core.tempomap.position import words_at
from studio.analysis.features import attacks
from studio.library.models import Session


def snap_to_attack(session: Session, seconds: float, within: float, track: int | None = None) -> float:
    """The nearest attack within so many seconds, or the time itself. A named track's attacks go first."""
    tracks = [t for t in session.tracks.all() if t.analysed]
    for group in ([t for t in tracks if t.pk == track], tracks):
        found = nearest_attack([attacks(t) for t in group], seconds, within)
        if found is not None:
            return found
    return seconds


def target(session: Session, params: dict[str, Any]) -> float:
    """Where a drag points to: snapped unless a modifier key freed it."""
    seconds = float(params["to"])
    if params.get("free"):
        return seconds
    return snap_to_attack(session, seconds, min(0.25, float(params.get("snap_within", 0.03))), params.get("track"))


def stretch(tempo_map: TempoMap, params: dict[str, Any]) -> tuple[int, int] | None:
    """The felt beats nearest to the chosen stretch (``stretch``: seconds); None where none is chosen."""
    if not params.get("stretch"):
        return None
    a, b = (float(x) for x in params["stretch"])
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
