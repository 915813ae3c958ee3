"""The history of a session: a tree of steps. Undo goes to the step before, redo to the newest one after.

What a step holds beside the map is contributed by the apps: each registers its piece of the session's state, how it is
taken and how it is put back. Apps below the one that keeps the steps tell of a change with :func:`changed`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from contextvars import ContextVar
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol, TypeVar

if TYPE_CHECKING:
    from studio.library.models import Session


class Step(Protocol):
    """A step of some history."""

    @property
    def pk(self) -> int: ...

    @property
    def before_id(self) -> int | None: ...


S = TypeVar("S", bound=Step)


class Stale(Exception):
    """An edit that was made on a state which has changed meanwhile."""


#: The new key of a row (by the label of its model, like ``library.track``, and its old key) in a session that was
#: imported; rows that are gone get a key of their own.
Renumber = Callable[[str, int], int]


def _as_it_is(data: Any, _new: Renumber) -> Any:
    return data


class StatePiece(NamedTuple):
    """A piece of a session's state: ``take`` gives it as plain JSON data, ``restore`` puts such data back. ``is_new``:
    steps of an earlier version that do not hold it had none of it, which ``restore`` knows as None. ``renumber``: the
    data with the keys that its rows have in another database."""

    name: str
    take: Callable[[Session], Any]
    restore: Callable[[Session, Any], None]
    is_new: bool = False
    renumber: Callable[[Any, Renumber], Any] = _as_it_is


#: All pieces, in the order in which they are put back.
PIECES: list[StatePiece] = []
#: What records a change: set by the app that keeps the steps.
_recorders: list[Callable[[Session, str, bool], None]] = []
#: The step before and the step after what was recorded while a request was answered.
recorded: ContextVar[tuple[int | None, int] | None] = ContextVar("recorded", default=None)


def register_piece(piece: StatePiece, first: bool = False) -> None:
    PIECES.insert(0 if first else len(PIECES), piece)


def register_recorder(record: Callable[[Session, str, bool], None]) -> None:
    _recorders.append(record)


def changed(session: Session, name: str, gesture: bool = False) -> None:
    """Something of the session's state was changed: make it a step of its history, called ``name``. ``gesture``: one
    with the step before, where that has the same name and was made a moment ago (a fader that is drawn)."""
    for record in _recorders:
        record(session, name, gesture)


def line(steps: Iterable[S], here: int | None) -> tuple[list[S], int]:
    """Steps (oldest first) in the order in which undo and redo pass them, and the place of the one whose key is
    ``here``; nothing and -1 where that is None."""
    if here is None:
        return [], -1
    by_key = {s.pk: s for s in steps}
    after = {s.before_id: s for s in by_key.values()}  # the newest wins, as steps are in order
    past: list[S] = []
    step: S | None = by_key[here]
    while step:
        past.append(step)
        step = by_key.get(step.before_id) if step.before_id is not None else None
    past.reverse()
    future: list[S] = []
    step = after.get(here)
    while step:
        future.append(step)
        step = after.get(step.pk)
    return past + future, len(past) - 1
