"""What is wanted of a session's playing: read, checked and stored."""

from __future__ import annotations

from typing import Any

from pydantic import TypeAdapter

from core.reshaping.plan import Reshaping
from studio.histories import Renumber, StatePiece, changed
from studio.library.models import Session
from studio.reshaping.models import Reshape

_READER: TypeAdapter[Reshaping] = TypeAdapter(Reshaping)


def wanted_of(session: Session) -> Reshaping:
    """What is wanted now."""
    row = Reshape.objects.filter(session=session).values_list("wanted", flat=True).first()
    return _READER.validate_python(row) if row else Reshaping()


def save_wanted(session: Session, wanted: Reshaping, name: str, gesture: bool = False) -> None:
    """Store it as a step of the session's history."""
    _put(session, _READER.dump_python(wanted, mode="json"))
    changed(session, name, gesture)


def _put(session: Session, wanted: dict[str, Any]) -> None:
    Reshape.objects.update_or_create(session=session, defaults={"wanted": wanted})


def _take(session: Session) -> dict[str, Any] | None:
    wanted = wanted_of(session)
    return None if wanted == Reshaping() else _READER.dump_python(wanted, mode="json")


def _restore(session: Session, data: dict[str, Any] | None) -> None:
    _put(session, data or {})


#: Fields of what is wanted that name a track, and that name several.
_A_TRACK, _TRACKS = ("track", "leader", "other"), ("tracks",)


def renumbered(wanted: Any, new: Renumber) -> Any:
    """What is wanted, as plain data, with the keys that its tracks have in another database. A leading session, which
    is not there, is forgotten; its map is kept."""
    if isinstance(wanted, list):
        return [renumbered(x, new) for x in wanted]
    if not isinstance(wanted, dict):
        return wanted
    out: dict[str, Any] = {}
    for name, value in wanted.items():
        if name in _A_TRACK and isinstance(value, int):
            out[name] = new("library.track", value)
        elif name in _TRACKS and isinstance(value, list):
            out[name] = [new("library.track", t) for t in value]
        elif name == "groups":
            out[name] = [[new("library.track", t) for t in group] for group in value]
        elif name == "engines":
            out[name] = {str(new("library.track", int(t))): engine for t, engine in value.items()}
        elif name == "conform" and isinstance(value, dict):
            out[name] = {**value, "leader": None}
        elif name in ("map", "link"):
            out[name] = value
        else:
            out[name] = renumbered(value, new)
    return out


RESHAPING_PIECE = StatePiece("reshaping", _take, _restore, is_new=True, renumber=renumbered)
