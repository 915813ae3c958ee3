"""Edits as the page asks for them: each names a core edit, its arguments, and what history calls it."""

from collections.abc import Callable

import numpy as np

from core.tempomap import TempoMap
from core.tempomap.edits import EditError
from studio.desk.edits import bars, beats, stretches
from studio.desk.edits.asked import snapped
from studio.desk.models import Mark
from studio.library.models import Session

__all__ = ["EDITS", "FRESH", "EditError", "apply", "respect_locks", "snapped"]

EDITS: dict[str, Callable] = {
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
    "tap": stretches.tap,
    "rough": stretches.rough,
}
#: Edits that need no map to begin with.
FRESH = ("tap", "rough")


def apply(session: Session, tempo_map: TempoMap | None, said: dict) -> tuple[TempoMap, str]:
    """The edited map and the step's name. Raises :class:`EditError`."""
    edit = EDITS.get(said.get("kind", ""))
    if edit is None:
        raise EditError("This version of Diachron does not know that edit.")
    if tempo_map is None and said["kind"] not in FRESH:
        raise EditError("There is no map yet.")
    try:
        edited, name = edit(session, tempo_map, said)
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
