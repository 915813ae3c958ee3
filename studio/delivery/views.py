"""Delivering: the map and what is made from it, as files."""

import io
import re

import soundfile as sf
from django.http import FileResponse, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET

from core.following import click
from core.formats import smf, tables
from studio.desk.played import clicks_of
from studio.library.models import Session


def _with_map(pk) -> Session:
    return get_object_or_404(
        Session.objects.select_related("step").prefetch_related("tracks"), pk=pk, step__isnull=False
    )


def _file(data: bytes, session: Session, what: str, kind: str) -> FileResponse:
    # what file systems take everywhere; the title itself may hold anything
    stem = re.sub(r"[^\w\- ]+", "", session.title).strip()[:80] or "session"
    return FileResponse(io.BytesIO(data), as_attachment=True, filename=f"{stem} {what}", content_type=kind)


@require_GET
def midi(request, pk):
    session = _with_map(pk)
    try:
        written = smf.write(session.step.tempo_map, session.title)
    except smf.MidiError as e:
        return HttpResponse(str(e), status=422, content_type="text/plain; charset=utf-8")
    out = io.BytesIO()
    written.file.save(file=out)
    return _file(out.getvalue(), session, "map.mid", "audio/midi")


@require_GET
def click_wav(request, pk):
    """The click as it is heard at the desk, for the whole take or from one bar (``from``) up to another (``to``)."""
    session = _with_map(pk)
    tempo_map, rate = session.step.tempo_map, session.rate
    start, whole = 0, round(session.seconds * rate)
    end = whole
    try:
        if request.GET.get("from"):
            start = round(float(tempo_map.bar_seconds(int(request.GET["from"]))) * rate)
        if request.GET.get("to"):
            end = round(float(tempo_map.bar_seconds(int(request.GET["to"]) + 1)) * rate)
        end = min(end, whole)
    except ValueError:
        return HttpResponse("Bars are whole numbers.", status=422, content_type="text/plain; charset=utf-8")
    if not 0 <= start < end:
        return HttpResponse("Those bars hold nothing.", status=422, content_type="text/plain; charset=utf-8")
    found = clicks_of(session, tempo_map)
    track = click.render(found, rate, end - start, session.click_style.sound, start)
    out = io.BytesIO()
    sf.write(out, track, rate, "PCM_24", format="WAV")
    return _file(out.getvalue(), session, "click.wav", "audio/wav")


@require_GET
def beats_csv(request, pk):
    session = _with_map(pk)
    return _file(tables.beats_csv(session.step.tempo_map).encode(), session, "beats.csv", "text/csv; charset=utf-8")
