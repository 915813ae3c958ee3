"""What is carried inside a file: the map, its sections and its title, as text under a published schema.

The text is JSON under ``docs/map.schema.json``; numbers keep their shortest exact form, so that a map read back is the
same to the bit. It is written in ASCII, which every kind of tag takes.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from core.errors import InputError
from core.tempomap import TempoMap
from core.tempomap.tempomap import MapError

#: The field of a tag that holds the text.
FIELD = "DIACHRON_MAP"
#: The field that holds the seconds of bar 1, where only the tempo is tagged.
FIRST_BEAT = "FIRST_BEAT"
FORMAT, VERSION = "diachron.map", 1
#: Bytes of a text that is read, at most.
LARGEST = 15 << 20


class CarryError(InputError):
    """A file that cannot carry a map, or whose map cannot be read, in words for the engineer."""


@dataclass(frozen=True)
class Section:
    """A named stretch of the take, in seconds."""

    start: float
    end: float
    name: str


@dataclass(frozen=True)
class CarriedMap:
    """A map as a file carries it; time zero is the file's first sample."""

    map: TempoMap
    title: str = ""
    sections: tuple[Section, ...] = ()

    def moved(self, by: float) -> CarriedMap:
        """The map and its sections so many seconds later."""
        if not by:
            return self
        m = self.map
        sections = tuple(Section(s.start + by, s.end + by, s.name) for s in self.sections)
        return CarriedMap(m.with_points(m.seconds + by, m.quarters, m.pins), self.title, sections)


def to_text(carried: CarriedMap) -> str:
    return json.dumps(
        {
            "format": FORMAT,
            "version": VERSION,
            "title": carried.title,
            "map": carried.map.to_json(),
            "sections": [{"start": s.start, "end": s.end, "name": s.name} for s in carried.sections],
        },
        separators=(",", ":"),
    )


def from_text(text: str) -> CarriedMap:
    """Restore :func:`to_text`. Raises :class:`CarryError`."""
    try:
        data: dict[str, Any] = json.loads(text)
        if data["format"] != FORMAT:
            raise CarryError("The map in this file is of a kind that is not known here.")
        if data["version"] > VERSION:
            raise CarryError("The map in this file was written by a newer Diachron; this one cannot read it.")
        sections = tuple(Section(float(s["start"]), float(s["end"]), str(s["name"])) for s in data["sections"])
        return CarriedMap(TempoMap.from_json(data["map"]), str(data["title"]), sections)
    except CarryError:
        raise
    except (MapError, ValueError, TypeError, KeyError, IndexError, OverflowError, RecursionError):
        raise CarryError("The map in this file is damaged.") from None
