"""The tempo picture: smooth beside beat by beat, sections' averages and ranges, phrase arches."""

from __future__ import annotations

from dataclasses import asdict

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET

from core.tempomap.tempo_curve import phrases, smooth_tempo, stretch_tempo
from studio.desk.models import Mark
from studio.library.models import Session
from studio.reshaping.result import in_clock
from studio.responses import json_response


@require_GET
def tempo(request: HttpRequest, pk: int) -> HttpResponse:
    """Middles of beats with the smooth tempo there, and the stretches: sections, or phrases where none are named."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    if session.step is None:
        return json_response({"step": None})
    in_clock(request, session)
    tempo_map = session.tempo_map
    at, smooth = smooth_tempo(tempo_map)
    named = [(m.start, m.end) for m in session.marks.filter(kind=Mark.Kind.SECTION)]
    found = [stretch_tempo(tempo_map, start, end) for start, end in named or phrases(tempo_map)]
    return json_response(
        {
            "step": session.step_id,
            "at": at.round(4),
            "smooth": smooth.round(3),
            "sections": bool(named),
            "stretches": [asdict(s) for s in found if s is not None],
        }
    )
