"""What a command makes of a document, before it is checked against what was said."""

from __future__ import annotations

from dataclasses import dataclass, field

from core.document.commands import Bars
from core.document.statements import Statement
from core.tempomap import TempoMap


@dataclass(frozen=True)
class Outcome:
    """``map`` and the step's ``name``; ``said``: new statements; ``unpinned``: times (seconds) whose pins the command
    takes back; ``flipped``: what else could become of the later bar lines, if anything."""

    map: TempoMap
    name: str
    statements: tuple[Statement, ...] = ()
    unpinned: tuple[float, ...] = field(default=())
    flipped: Bars | None = None
