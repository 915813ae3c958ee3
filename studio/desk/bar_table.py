"""The bars of a session as a table: the desk without its picture, for keyboards and screen readers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_http_methods

from core.document.commands import Command, Move, Pin, SetMeter
from core.editing import apply
from core.tempomap.edits import EditError, pins_of
from core.tempomap.limits import LAST_BAR
from studio.desk import history
from studio.desk.doubt_views import confidence_of, doubts_of
from studio.desk.recording import SessionRecording
from studio.desk.statements import document_of
from studio.histories import Stale
from studio.inputs import BadInput, Decimal, Form, Key, read_form
from studio.library.models import Session


@dataclass(frozen=True)
class BarRow:
    """One bar: where its line is, its meter, tempo in felt beats a minute, the least confidence of its beats (0 to 1;
    None: not known), the doubts that touch it, whether its line is pinned, and the felt beat on it."""

    bar: int
    beat: int
    seconds: float
    meter: str
    bpm: float
    confidence: float | None
    doubts: tuple[str, ...]
    pinned: bool


class Change(Form):
    """A cell that was changed."""

    step: Key
    beat: int
    bar: int
    cell: Literal["at", "meter", "pin"]
    at: Decimal | None = None
    meter: str = ""
    pin: str = ""
    onward: str = ""


def rows_of(session: Session) -> list[BarRow]:
    """All bars that begin in the mapped music."""
    tempo_map = session.tempo_map
    beats, sure, doubts = tempo_map.beats(), confidence_of(session), doubts_of(session)
    opens = np.flatnonzero(beats.beat == 1)
    ends = [*opens[1:].tolist(), len(beats)]
    fixed = tempo_map.seconds[pins_of(tempo_map)]
    out = []
    for first, end in zip(opens.tolist(), ends, strict=True):
        bar, start = int(beats.bar[first]), float(beats.seconds[first])
        stop = float(tempo_map.seconds_of_beat(int(beats.index[end - 1]) + 1))
        found = tuple(d.reason for d in doubts if d.start < stop and start <= d.end)
        least = float(sure[first:end].min()) if len(sure) == len(beats) else None
        pinned = bool((np.abs(fixed - start) < 1e-6).any())
        bpm = 60 * (end - first) / (stop - start)
        meter = str(tempo_map.meters.meter_at(bar))
        out.append(BarRow(bar, int(beats.index[first]), start, meter, bpm, least, found, pinned))
    return out


@require_http_methods(["GET", "POST"])
def bars(request: HttpRequest, pk: int) -> HttpResponse:
    """The table; with POST after a cell was changed, with what was done or why it was not."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    message, status = "", 200
    if request.method == "POST":
        try:
            message = _changed(session, read_form(request.POST, Change))
        except (EditError, BadInput) as e:
            message, status = str(e), 422
        except Stale:
            message, status = "Another window was faster: these are the bars as they are now.", 409
        session.refresh_from_db()
    rows = rows_of(session) if session.step else []
    onward = bool(request.POST.get("onward"))
    context = {"session": session, "rows": rows, "message": message, "wrong": status != 200, "onward": onward}
    if getattr(request, "htmx", None):
        return render(request, "desk/bar_rows.html", context, status=422 if status != 200 else 200)
    return render(request, "desk/bar_table.html", context, status=status)


def _changed(session: Session, change: Change) -> str:
    """Do what a changed cell means; returns its name. Raises :class:`EditError`, :class:`BadInput`, :class:`Stale`."""
    if session.step_id != change.step:
        raise Stale
    document = document_of(session)
    applied = apply(_command(change), document, SessionRecording(session))
    assert applied.document.map is not None
    if applied.document.map == document.map and applied.document.statements == document.statements:
        return "Nothing changed."
    history.record(session, applied.document.map, applied.name, change.step, applied.document.statements)
    return f"{applied.name}."


def _command(change: Change) -> Command:
    if not -LAST_BAR <= change.bar <= LAST_BAR:
        raise BadInput("There is no such bar.")
    if change.cell == "at":
        if change.at is None:
            raise BadInput("A time is a number of seconds, such as 12.345.")
        return Move(change.beat, change.at, free=True)
    if change.cell == "meter":
        return SetMeter(change.bar, change.meter.strip(), only=not change.onward)
    return Pin(change.beat, bool(change.pin))
