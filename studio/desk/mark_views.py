"""Marks on the recording: sections, locked stretches, holds, music without beats, dismissed doubts."""

import json
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET, require_POST

from core.tempomap import TempoMap
from studio.desk.models import Mark
from studio.library.models import Session
from studio.responses import json_response

#: Colours that the page has for sections.
COLOURS = 5


def marks_of(session: Session) -> list[dict[str, Any]]:
    """Marks as drawn: ends on the nearest bar lines (sections) or beats of the map as it is now."""
    tempo_map = session.step.tempo_map if session.step else None
    out = []
    for m in session.marks.exclude(kind=Mark.Kind.FINE):
        start, end = m.start, m.end
        if tempo_map is not None:
            start, end = _on_the_map(tempo_map, m)
        words = m.words(tempo_map) if tempo_map is not None else ""
        out.append(
            {"id": m.pk, "kind": m.kind, "name": m.name, "start": start, "end": end, "words": words, "colour": m.colour}
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
    return json_response({"marks": marks_of(session)})


@require_POST
def mark(request: HttpRequest, pk: int) -> HttpResponse:
    """Set, rename, recolour or (``remove``) take away a mark."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    params = json.loads(request.body)
    if "remove" in params:
        session.marks.filter(pk=params["remove"]).delete()
        return json_response({"marks": marks_of(session)})
    if "rename" in params:
        session.marks.filter(pk=params["rename"]).update(name=str(params.get("name", ""))[:100].strip())
        return json_response({"marks": marks_of(session)})
    if "recolour" in params:
        session.marks.filter(pk=params["recolour"]).update(colour=int(params["colour"]) % COLOURS)
        return json_response({"marks": marks_of(session)})
    kind = params.get("kind")
    if kind not in Mark.Kind.values:
        return json_response({"error": "There is no such mark."}, status=422)
    start, end = sorted(float(x) for x in params["stretch"])
    if end - start < 0.01:
        return json_response({"error": "Choose a stretch first: drag along the time above the bars."}, status=422)
    name = str(params.get("name", ""))[:100].strip()
    if kind == Mark.Kind.SECTION and not name:
        name = f"Section {session.marks.filter(kind=kind).count() + 1}"
    new = Mark(session=session, kind=kind, name=name, start=start, end=end)
    if kind == Mark.Kind.SECTION:
        new.colour = session.marks.filter(kind=kind).count() % COLOURS
    if session.step and kind != Mark.Kind.FINE:
        new.start, new.end = _on_the_map(session.tempo_map, new)
    new.save()
    return json_response({"marks": marks_of(session)})
