"""Marks on the recording: sections, statements, dismissed doubts. Setting and taking back each is a step."""

from typing import Any, Literal

import numpy as np
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from core.document import Right
from core.document.statements import words
from core.tempomap import TempoMap
from core.tempomap.edits import EditError, pins_of
from core.tempomap.position import words_at
from studio.desk.models import Mark
from studio.desk.statements import statement_of
from studio.histories import changed
from studio.inputs import Body, Key, Seconds, read_body
from studio.library.models import Session
from studio.reshaping.result import in_clock
from studio.responses import json_response

#: Colours that the page has for sections.
COLOURS = 5


class MarkChange(Body):
    """A mark that is set (``kind``, ``stretch``), or by its key taken back, renamed or recoloured."""

    kind: Literal["section", "lock", "free", "fine"] | None = None
    stretch: tuple[Seconds, Seconds] = (0.0, 0.0)
    name: str = ""
    remove: Key | None = None
    rename: Key | None = None
    recolour: Key | None = None
    colour: int = Field(0, ge=0, le=99)


#: Marks of a single moment; on the page they stand beside the ruler, not over the lanes.
_MOMENTS = (Mark.Kind.LINE, Mark.Kind.METER, Mark.Kind.STARTS, Mark.Kind.ENDS)


def marks_of(session: Session) -> list[dict[str, Any]]:
    """Marks as drawn: ends on the nearest bar lines (sections) or beats of the map as it is now; last, pinned beats
    that stand side by side as one row."""
    tempo_map = session.step.tempo_map if session.step else None
    out = []
    for m in session.marks.exclude(kind=Mark.Kind.FINE):
        start, end = m.start, m.end
        if tempo_map is not None and m.kind not in _MOMENTS:
            start, end = _on_the_map(tempo_map, m)
        statement = statement_of(m)
        text = words(statement, tempo_map) if statement else ""
        bars = m.words(tempo_map) if tempo_map is not None else ""
        row = {"id": m.pk, "kind": m.kind, "name": m.name, "start": start, "end": end, "words": bars, "statement": text}
        out.append({**row, "colour": m.colour})
    return out + (_pinned(tempo_map) if tempo_map is not None else [])


def _pinned(tempo_map: TempoMap) -> list[dict[str, Any]]:
    """Pinned beats, those side by side together."""
    seconds = tempo_map.seconds[pins_of(tempo_map)]
    if not len(seconds):
        return []
    index = np.round(tempo_map.beat_index_at(seconds)).astype(int)
    runs = np.split(np.arange(len(seconds)), np.flatnonzero(np.diff(index) > 1) + 1)
    out = []
    for run in runs:
        first, last = words_at(tempo_map, int(index[run[0]])), words_at(tempo_map, int(index[run[-1]]))
        n = len(run)
        text = f"{first.capitalize()} is pinned" if n == 1 else f"{n} pinned beats, {first} to {last}"
        start, end = float(seconds[run[0]]), float(seconds[run[-1]])
        out.append(
            {
                "id": None,
                "kind": "pins",
                "name": "",
                "start": start,
                "end": end,
                "words": first,
                "statement": text,
                "colour": 0,
            }
        )
    return out


def _on_the_map(tempo_map: TempoMap, mark: Mark) -> tuple[float, float]:
    beats = tempo_map.beats()
    lines = beats.seconds
    if mark.kind == Mark.Kind.SECTION:
        first, last = tempo_map.bar_range
        lines = tempo_map.bar_seconds(np.arange(first, last + 2))
    nearest = [float(lines[int(np.argmin(np.abs(lines - t)))]) for t in (mark.start, mark.end)]
    return (nearest[0], nearest[1]) if nearest[1] > nearest[0] else (mark.start, mark.end)


@require_GET
def marks(request: HttpRequest, pk: int) -> HttpResponse:
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    found = marks_of(session)
    if result := in_clock(request, session):
        for row in found:
            row["start"], row["end"] = result.plan.clock.to_target([row["start"], row["end"]]).tolist()
    return json_response({"marks": found})


@require_POST
def mark(request: HttpRequest, pk: int) -> HttpResponse:
    """Set, rename, recolour or (``remove``) take back a mark."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    arguments = read_body(request, MarkChange)
    with transaction.atomic():
        try:
            done = _change_mark(session, arguments)
        except EditError as e:
            return json_response({"error": str(e)}, status=422)
        changed(session, done)
    found = marks_of(session)
    if result := in_clock(request, session):
        for row in found:
            row["start"], row["end"] = result.plan.clock.to_target([row["start"], row["end"]]).tolist()
    return json_response({"marks": found})


def _change_mark(session: Session, arguments: MarkChange) -> str:
    """Do what the page asks; the step's name. Raises :class:`EditError`."""
    marks = session.marks
    if arguments.remove is not None:
        gone = marks.filter(pk=arguments.remove).first()
        if gone is None:
            raise EditError("That mark is gone already.")
        gone.delete()
        statement = statement_of(gone)
        tempo_map = session.step.tempo_map if session.step else None
        return f"Took back: {words(statement, tempo_map)}" if statement else f"Removed the section {gone.name}"
    name = arguments.name[:100].strip()
    if arguments.rename is not None:
        marks.filter(pk=arguments.rename).update(name=name)
        return f"Section name: {name}"
    if arguments.recolour is not None:
        marks.filter(pk=arguments.recolour).update(colour=arguments.colour % COLOURS)
        return "Colour of a section"
    if arguments.kind is None:
        raise EditError("There is no such mark.")
    kind = Mark.Kind(arguments.kind)
    start, end = sorted(arguments.stretch)
    if end - start < 0.01:
        raise EditError("Choose a stretch first: drag along the time above the bars.")
    sections = marks.filter(kind=Mark.Kind.SECTION).count()
    if kind == Mark.Kind.SECTION and not name:
        name = f"Section {sections + 1}"
    new = Mark(session=session, kind=kind, name=name, start=start, end=end)
    if kind == Mark.Kind.SECTION:
        new.colour = sections % COLOURS
    if session.step and kind != Mark.Kind.FINE:
        new.start, new.end = _on_the_map(session.tempo_map, new)
        if kind == Mark.Kind.LOCK:
            right = Right.of(session.tempo_map, new.start, new.end)
            new.data = {"seconds": list(right.seconds), "bars": list(right.bars), "beats": list(right.beats)}
    new.save()
    statement = statement_of(new)
    if statement:
        return words(statement, session.step.tempo_map if session.step else None)
    return f"Section {name}" if kind == Mark.Kind.SECTION else "Doubt dismissed"
