"""What is delivered of a session: its map, its sections on their bar lines, its chords."""

from __future__ import annotations

import re

from core.following.running_order import whole_bars
from core.formats.carried import CarriedMap, Section
from core.harmony.chord_line import TimedChord, snapped_chords
from studio.desk.models import Mark
from studio.harmony.models import Harmony
from studio.library.models import Session


def sections_of(session: Session) -> tuple[Section, ...]:
    """The sections, from bar line to bar line."""
    tempo_map, out = session.tempo_map, []
    for mark in session.marks.filter(kind=Mark.Kind.SECTION):
        bars = whole_bars(tempo_map, mark.start, mark.end, session.sample_rate)
        start, end = tempo_map.bar_seconds([bars.first, bars.last + 1]).tolist()
        out.append(Section(start, end, mark.name))
    return tuple(out)


def carried_of(session: Session) -> CarriedMap:
    return CarriedMap(session.tempo_map, session.title, sections_of(session))


def harmony_of(session: Session) -> Harmony | None:
    return Harmony.objects.select_related("step").filter(session=session).first()


def chords_of(session: Session) -> list[TimedChord]:
    """The chords on the beats or bars that they are bound to; none where nobody looked for them."""
    harmony = harmony_of(session)
    if harmony is None or harmony.step is None:
        return []
    return snapped_chords(harmony.step.timed_chords(), session.tempo_map, harmony.grain)


def plain_title(session: Session) -> str:
    """The session's title as file systems take it everywhere; the title itself may hold anything."""
    return re.sub(r"[^\w\- ]+", "", session.title).strip()[:80] or "session"


def long_title(session: Session) -> str:
    """Title, bars and tempo, as the names of a bundle begin."""
    tempo_map = session.tempo_map
    first, last = tempo_map.bar_range
    return f"{plain_title(session)}, bars {max(1, first)}-{last}, {tempo_map.average_bpm:.0f} bpm"
