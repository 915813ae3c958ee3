"""Kinds of jobs. Each app registers its own when it is ready; this app knows none of them by name."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from studio.jobs.models import Job

#: Called with a stage in plain words and the share done, 0 to 1; raises where the job was cancelled.
Report = Callable[[str, float], None]


class Failed(Exception):
    """Work that cannot end well, in words for the engineer."""


@dataclass(frozen=True)
class JobKind:
    """``name``: as it is stored; ``label``: what the page calls it; ``work``: what does it, raising :class:`Failed`."""

    name: str
    label: str
    work: Callable[[Job, Report], None]


_kinds: dict[str, JobKind] = {}
_state: list[Callable[[int], dict[str, Any]]] = []


def register(kind: JobKind) -> None:
    """Make a kind of job known; from an app's ``ready``."""
    _kinds[kind.name] = kind


def kind_of(name: str) -> JobKind:
    """The kind registered by that name. Raises ``KeyError``."""
    return _kinds[name]


def register_state(contribute: Callable[[int], dict[str, Any]]) -> None:
    """What the page gets to know of a session (by its key) whenever it asks for its jobs; from an app's ``ready``."""
    _state.append(contribute)


def state_of(session: int) -> dict[str, Any]:
    """All that apps contribute."""
    return {name: value for contribute in _state for name, value in contribute(session).items()}
