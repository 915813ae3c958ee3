"""The running order: what the player follows, and the pane in which it is made."""

import numpy as np
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET, require_POST

from core.following.running_order import whole_bars
from studio.desk.models import Mark
from studio.histories import changed
from studio.inputs import LARGEST, whole
from studio.library import stand_ins
from studio.library.lookup import with_map
from studio.library.models import Session
from studio.reshaping.result import in_clock
from studio.responses import json_response
from studio.running_order.models import Turn

SLOWEST, FASTEST = 50, 150


@require_GET
def order(request: HttpRequest, pk: int) -> HttpResponse:
    """The order in samples of the take, on the bar lines of the current map; empty where there is none yet."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    if session.step is None:
        return json_response({"order": []})
    result = in_clock(request, session)
    tempo_map, rate = session.tempo_map, session.sample_rate
    total = round(result.seconds * rate) if result else session.frames
    turns = []
    for t in session.turns.select_related("section"):
        ends = np.array([t.section.start, t.section.end])
        start, end = (result.plan.clock.to_target(ends) if result else ends).tolist()
        bars = whole_bars(tempo_map, start, end, rate)
        turns.append(
            {
                "id": t.pk,
                "name": str(t.section),
                "start": bars.start,
                "end": min(total, bars.end),
                "bars": [line for line in bars.lines if line <= total],
                "times": t.times,
                "hold": t.hold,
                "pace": t.pace,
            }
        )
    return json_response({"order": turns})


def _pane(request: HttpRequest, session: Session, error: str = "", status: int = 200) -> HttpResponse:
    if request.method == "POST" and not error:
        changed(session, "Running order changed")
    tempo_map = session.tempo_map
    turns = [
        {"turn": t, "words": t.section.words(tempo_map), "percent": round(100 * t.pace)}
        for t in session.turns.select_related("section")
    ]
    context = {
        "session": session,
        "turns": turns,
        "sections": session.marks.filter(kind=Mark.Kind.SECTION),
        "error": error,
        "slowest": SLOWEST,
        "fastest": FASTEST,
        "demo": stand_ins.are_offered(),
    }
    out = render(request, "running_order/pane.html", context, status=status)
    if request.method == "POST" and not error:
        out["HX-Trigger-After-Swap"] = "order-changed"
    return out


@require_GET
def pane(request: HttpRequest, pk: int) -> HttpResponse:
    return _pane(request, with_map(pk))


@require_POST
def add(request: HttpRequest, pk: int) -> HttpResponse:
    """Put a section at the end of the order, or with ``all`` every section as it comes in the take."""
    session = with_map(pk)
    chosen = session.marks.filter(kind=Mark.Kind.SECTION)
    if "all" not in request.POST:
        chosen = chosen.filter(pk=whole(request.POST.get("section") or "0", 0, LARGEST, "Choose a section."))
    last = session.turns.last()
    place = last.place + 1 if last else 0
    Turn.objects.bulk_create(Turn(session=session, section=m, place=place + i) for i, m in enumerate(chosen))
    return _pane(request, session, "" if chosen else "Name a section first: Check, Marks.", 200 if chosen else 422)


@require_POST
def change(request: HttpRequest, pk: int) -> HttpResponse:
    """Change a turn: ``times``, ``hold``, ``pace`` in percent; ``move`` it by places; or ``out``."""
    turn = get_object_or_404(Turn.objects.select_related("session"), pk=pk)
    session = with_map(turn.session_id)
    said = [name for name in ("times", "pace", "hold") if name in request.POST]
    try:
        if "times" in request.POST:
            turn.times = int(request.POST["times"])
            if not 1 <= turn.times <= 99:
                raise ValueError
        if "pace" in request.POST:
            turn.pace = float(request.POST["pace"].replace(",", ".")) / 100
            if not SLOWEST / 100 <= turn.pace <= FASTEST / 100:
                raise ValueError
    except ValueError:
        return _pane(request, session, f"A section plays 1 to 99 times, at {SLOWEST} to {FASTEST} percent.", 422)
    if "hold" in request.POST:
        turn.hold = request.POST["hold"] == "on"
    turn.save(update_fields=said)
    if "out" in request.POST:
        turn.delete()
    if "move" in request.POST:
        _move(session, turn, whole(request.POST["move"], -999, 999, "A place is a whole number."))
    return _pane(request, session)


@transaction.atomic
def _move(session: Session, turn: Turn, by: int) -> None:
    turns = list(session.turns.all())
    here = turns.index(turn)
    turns.insert(max(0, min(len(turns) - 1, here + by)), turns.pop(here))
    for i, t in enumerate(turns):
        t.place = i
    Turn.objects.bulk_update(turns, ["place"])
