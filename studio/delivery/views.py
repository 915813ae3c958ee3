"""Delivering: the map and what is made from it, as files."""

import io
import re

import soundfile as sf
from django.http import FileResponse, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET

from core.following import click
from core.formats import smf, tables
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
    session = _with_map(pk)
    found = click.clicks(session.step.tempo_map, session.rate, session.seconds)
    track = click.render(found, session.rate, round(session.seconds * session.rate))
    out = io.BytesIO()
    sf.write(out, track, session.rate, "PCM_24", format="WAV")
    return _file(out.getvalue(), session, "click.wav", "audio/wav")


@require_GET
def beats_csv(request, pk):
    session = _with_map(pk)
    return _file(tables.beats_csv(session.step.tempo_map).encode(), session, "beats.csv", "text/csv; charset=utf-8")
