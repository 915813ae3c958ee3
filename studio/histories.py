"""Histories as trees of steps: undo goes to the step before, redo to the newest one after."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Protocol, TypeVar


class Step(Protocol):
    """A step of some history."""

    @property
    def pk(self) -> int: ...

    @property
    def before_id(self) -> int | None: ...


S = TypeVar("S", bound=Step)


class Stale(Exception):
    """An edit that was made on a state which has changed meanwhile."""


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
