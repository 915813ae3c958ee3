"""What an edit was asked with: places snapped to attacks, stretches snapped to beats, words for history."""

import numpy as np

from core.tempomap import TempoMap
from core.tempomap.edits import EditError
from studio.library.hearing import attacks
from studio.library.models import Session


def snapped(session: Session, seconds: float, reach: float, track: int | None = None) -> float:
    """The nearest attack within ``reach`` seconds, or the time itself. A named track's attacks go first."""
    heard = [t for t in session.tracks.all() if t.heard]
    for group in ([t for t in heard if t.pk == track], heard):
        best, distance = seconds, reach
        for t in group:
            times = attacks(t).seconds
            i = int(np.searchsorted(times, seconds))
            for j in (i - 1, i):
                if 0 <= j < len(times) and abs(times[j] - seconds) <= distance:
                    best, distance = float(times[j]), abs(float(times[j]) - seconds)
        if best != seconds:
            return best
    return seconds


def target(session: Session, said: dict) -> float:
    """Where a drag points to: snapped unless a modifier key freed it."""
    seconds = float(said["to"])
    if said.get("free"):
        return seconds
    return snapped(session, seconds, min(0.25, float(said.get("reach", 0.03))), said.get("track"))


def place(tempo_map: TempoMap, beat: int) -> str:
    found = tempo_map.beats(beat, beat)
    return f"bar {found.bar[0]}" if found.beat[0] == 1 else f"bar {found.bar[0]} beat {found.beat[0]}"


def stretch(tempo_map: TempoMap, said: dict) -> tuple[int, int] | tuple[None, None]:
    """The felt beats nearest to the chosen stretch (``stretch``: seconds), or nothing where none is chosen."""
    if not said.get("stretch"):
        return None, None
    a, b = (float(x) for x in said["stretch"])
    index = tempo_map.beats().index
    first, last = np.clip(np.round(tempo_map.beat_index_at([a, b])), index[0], index[-1]).astype(int)
    if last - first < 1:
        raise EditError("The chosen stretch holds no beats of the map.")
    return int(first), int(last)


def where(tempo_map: TempoMap, first: int | None, last: int | None) -> str:
    """Like " from bar 3 to bar 7", or nothing for the whole map."""
    if first is None:
        return ""
    return f" from {place(tempo_map, first)} to {place(tempo_map, last)}"
