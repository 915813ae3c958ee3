"""Who is at work, and which sessions they may see: set for each request in shared mode, else nobody and all."""

from __future__ import annotations

from collections.abc import Callable
from contextvars import ContextVar
from typing import Any

#: The name that stands in the history; empty where there are no accounts.
actor_name: ContextVar[str] = ContextVar("actor_name", default="")


def whose() -> str:
    """The name of whoever is at work."""
    return actor_name.get()


#: Whether they may change the session that a request is about: what a page does by itself asks for this first.
corrects: ContextVar[bool] = ContextVar("corrects", default=True)

#: Narrows a query of sessions to those that may be seen; None: all may.
scope: ContextVar[Callable[[Any], Any] | None] = ContextVar("scope", default=None)
