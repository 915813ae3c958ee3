"""What is wanted of a session's playing: read, checked and stored."""

from __future__ import annotations

from typing import Any

from pydantic import TypeAdapter

from core.reshaping.plan import Reshaping
from studio.histories import StatePiece, changed
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


RESHAPING_PIECE = StatePiece("reshaping", _take, _restore, is_new=True)
