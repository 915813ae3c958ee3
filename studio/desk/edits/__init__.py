"""Edits as the page asks for them: each names a core edit, its arguments, and what history calls it."""

from collections.abc import Callable
from typing import Any

import numpy as np

from core.tempomap import TempoMap
from core.tempomap.edits import EditError
from studio.desk.edits import bars, beats, stretches
from studio.desk.models import Mark
from studio.library.models import Session

__all__ = ["EDITS", "FIRST_EDITS", "EditError", "apply", "respect_locks"]

#: What does an edit: from the session, its map and the request's parameters to the new map and the step's name.
Edit = Callable[[Session, TempoMap, dict[str, Any]], tuple[TempoMap, str]]
EDITS: dict[str, Edit] = {
    "move": beats.move,
    "nudge": beats.nudge,
    "tempo": beats.tempo,
    "to-attack": beats.to_attack,
    "pin": beats.pin,
    "approve": beats.approve,
    "insert": beats.insert,
    "remove": beats.remove,
    "downbeat": bars.downbeat,
    "one": bars.one,
    "number": bars.number,
    "meter": bars.meter,
    "count": bars.count,
    "split": bars.split,
    "join": bars.join,
    "bars": bars.are_bars,
    "resolve": stretches.again,
    "alternative": stretches.alternative,
    "ratio": stretches.ratio,
    "half": stretches.half,
    "double": stretches.double,
    "steady": stretches.steady,
    "smooth": stretches.smooth,
    "thin": stretches.thin,
    "every": stretches.every,
    "shift": stretches.shift,
    "offbeat": stretches.offbeat,
    "starts": stretches.starts,
    "ends": stretches.ends,
}
#: Edits that need no map to begin with.
FIRST_EDITS: dict[str, Callable[[Session, TempoMap | None, dict[str, Any]], tuple[TempoMap, str]]] = {
    "tap": stretches.tap,
    "rough": stretches.rough,
}


def apply(session: Session, tempo_map: TempoMap | None, params: dict[str, Any]) -> tuple[TempoMap, str]:
    """The edited map and the step's name. Raises :class:`EditError`."""
    kind = str(params.get("kind", ""))
    if kind not in EDITS and kind not in FIRST_EDITS:
        raise EditError("This version of Diachron does not know that edit.")
    try:
        if kind in FIRST_EDITS:
            edited, name = FIRST_EDITS[kind](session, tempo_map, params)
        elif tempo_map is None:
            raise EditError("There is no map yet.")
        else:
            edited, name = EDITS[kind](session, tempo_map, params)
    except (KeyError, TypeError) as e:
        raise EditError(f"The edit was not understood ({e}).") from None
    except EditError:
        raise
    except ValueError as e:  # a map that cannot be
        raise EditError(str(e)) from None
    if tempo_map is not None:
        respect_locks(session, tempo_map, edited)
    return edited, name


def respect_locks(session: Session, before: TempoMap, after: TempoMap) -> None:
    """Refuse a map that moves, adds or removes a beat in a locked stretch. Numbers may change.

    Raises :class:`EditError`.
    """
    for lock in Mark.objects.filter(session_id=session.pk, kind=Mark.Kind.LOCK):
        old, new = (lock.times(m.beats().seconds) for m in (before, after))
        if len(old) != len(new) or (np.abs(old - new) > 1e-9).any():
            raise EditError(f"This would change a locked stretch ({lock.words(before)}). Unlock it first.")
