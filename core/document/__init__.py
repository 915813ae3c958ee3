"""The take as the engineer has it: its map, what was said of it, and the commands that change it. Plain data."""

from core.document.document import Document
from core.document.statements import (
    BarLine,
    BarsHere,
    Hold,
    MeterHere,
    MusicEnds,
    MusicStarts,
    Right,
    Statement,
    WithoutBeats,
)

__all__ = [
    "BarLine",
    "BarsHere",
    "Document",
    "Hold",
    "MeterHere",
    "MusicEnds",
    "MusicStarts",
    "Right",
    "Statement",
    "WithoutBeats",
]
