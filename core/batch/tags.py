"""Tempo and first beat in the files' own tags: what would be written is told first, and nothing there is overwritten
unless that is asked for. The sound stays as it is, byte for byte."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from core.batch.work import Outcome
from core.formats.carried import CarryError
from core.formats.carried.files import read_tempo, tag_tempo


@dataclass(frozen=True)
class TagPlan:
    """What is to be written into a file. ``there``: the tempo that its tags have already; ``refused``: why it cannot
    be tagged."""

    file: Path
    bpm: float
    first_beat: float
    there: str = ""
    refused: str = ""

    def writes(self, replace: bool) -> bool:
        return not self.refused and (replace or not self.there)

    def words(self, replace: bool) -> str:
        if self.refused:
            return f"{self.file}: {self.refused}"
        new = f"tempo {self.bpm:.2f}, first beat {self.first_beat:.3f} s"
        if self.there and not replace:
            return f"{self.file}: has tempo {self.there} already, left alone (found: {self.bpm:.2f})"
        return f"{self.file}: {new}" + (f" in place of {self.there}" if self.there else "")


def plan(outcomes: Sequence[Outcome]) -> Iterator[TagPlan]:
    """A plan for every audio file of the takes that have a map."""
    for o in outcomes:
        for name in () if o.error else o.files:
            file = Path(name)
            if file.suffix.lower() in (".mid", ".midi"):
                continue
            try:
                yield TagPlan(file, o.bpm, o.first_beat, read_tempo(file) or "")
            except (CarryError, OSError) as e:
                yield TagPlan(file, o.bpm, o.first_beat, refused=str(e))


def write(plans: Sequence[TagPlan], replace: bool) -> Iterator[str]:
    """Carry the plans out; says what was done, a line a file."""
    for p in plans:
        if p.writes(replace):
            try:
                tag_tempo(p.file, p.bpm, p.first_beat)
            except (CarryError, OSError) as e:
                yield f"{p.file}: {e}"
                continue
        yield p.words(replace)
