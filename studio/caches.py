"""What is kept in memory between requests: bounded, and calculated once however many requests ask at a time."""

from __future__ import annotations

import threading
from collections.abc import Callable
from functools import lru_cache, wraps
from typing import ParamSpec, TypeVar

#: What empties each cache.
_clearing: list[Callable[[], None]] = []
P = ParamSpec("P")
T = TypeVar("T")


def remembered(most: int) -> Callable[[Callable[P, T]], Callable[P, T]]:
    """Keep the ``most`` recent results of a function of hashable arguments. A second thread that asks meanwhile waits
    for the first, so that nothing costly is done twice. Say beside each use how large a result is."""

    def decorate(compute: Callable[P, T]) -> Callable[P, T]:
        cached = lru_cache(maxsize=most)(compute)
        lock = threading.RLock()

        @wraps(compute)
        def guarded(*args: P.args, **kwargs: P.kwargs) -> T:
            with lock:
                return cached(*args, **kwargs)  # type: ignore[arg-type]  # hashable: the caller's promise

        guarded.cache_clear = cached.cache_clear  # type: ignore[attr-defined]  # for tests
        _clearing.append(cached.cache_clear)
        return guarded

    return decorate


def clear_all() -> None:
    """Forget everything: for tests, whose rolled-back rows give their keys to others."""
    for clear in _clearing:
        clear()
