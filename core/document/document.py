"""A take's map with what the engineer said of it."""

from __future__ import annotations

from dataclasses import dataclass

from core.document.statements import Hold, Statement
from core.tempomap import TempoMap


@dataclass(frozen=True, eq=False)
class Document:
    """``map``: None before the first search; ``statements``: in the order in which they were said. Pinned beats are
    statements too, and live in the map as its pins."""

    map: TempoMap | None = None
    statements: tuple[Statement, ...] = ()

    @property
    def held(self) -> list[tuple[float, float]]:
        """Stretches (seconds) that the engineer said are one held beat each."""
        return [(s.start, s.end) for s in self.statements if isinstance(s, Hold)]
