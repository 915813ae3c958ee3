"""What the page plays: blocks of the tracks, the click, a count-in."""

import base64
import json

import numpy as np
from django.http import Http404, JsonResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET, require_POST

from core.following import click
from core.listening import audio
from core.tempomap import TempoMap
from studio.desk.answers import raw
from studio.desk.models import Mark
from studio.library.models import Session
from studio.parts import sound

#: Frames a streamed block: a third of a second at 48 kHz.
BLOCK = 16_384


@require_GET
def block(request, pk, number):
    """Block ``number`` of the tracks and parts asked for: planar float32, one after the other, channel by channel."""
    session = get_object_or_404(Session.objects.select_related("step").defer("finding"), pk=pk)
    first = number * BLOCK
    try:
        wanted, added = _numbers(request.GET.get("tracks")), _numbers(request.GET.get("parts"))
        if not wanted and not added:
            raise Http404
        tracks = session.tracks.in_bulk(wanted)
        parts = [np.ascontiguousarray(audio.read(tracks[n].playback, first, BLOCK).T).tobytes() for n in wanted]
        there = session.parts.select_related("step").in_bulk(added)
        parts += [sound.block(there[n], session.step, session.rate, first, BLOCK).T.tobytes() for n in added]
    except (KeyError, ValueError):  # a track was taken out meanwhile: the page lays its tracks anew
        raise Http404 from None
    return raw(b"".join(parts), "private, no-store")


def _numbers(text: str | None) -> list[int]:
    return [int(n) for n in (text or "").split(",") if n]


def clicks_of(session: Session, tempo_map: TempoMap) -> click.Clicks:
    """The session's clicks in its own style; none where the music has no beat."""
    rate = session.rate or 48_000
    found = click.clicks(tempo_map, rate, session.seconds, session.click_style)
    silent = np.zeros(len(found.samples), dtype=bool)
    for mark in session.marks.filter(kind=Mark.Kind.FREE):
        silent |= (found.samples >= mark.start * rate - 1) & (found.samples < mark.end * rate - 1)
    return click.Clicks(found.samples[~silent], found.kinds[~silent])


@require_POST
def click_style(request, pk):
    """Which sound the click has, and what it clicks."""
    session = get_object_or_404(Session, pk=pk)
    said = json.loads(request.body)
    try:
        style = click.Style(said.get("sound", "wood"), said.get("figure", "beats"))
    except ValueError as e:
        return JsonResponse({"error": str(e)}, status=422)
    session.click = {"sound": style.sound, "figure": style.figure}
    session.save(update_fields=["click"])
    return JsonResponse({"ok": True})


@require_GET
def click_track(request, pk):
    """The click: at which samples it sounds, and the sounds."""
    session = get_object_or_404(Session.objects.select_related("step").defer("finding"), pk=pk)
    rate = session.rate or 48_000
    sounds = [base64.b64encode(s.tobytes()).decode() for s in click.sounds(rate, session.click_style.sound)]
    step = session.step
    if request.GET.get("step"):  # another version, to compare by ear
        step = get_object_or_404(session.steps, pk=request.GET["step"])
    found = clicks_of(session, step.tempo_map) if step else None
    return JsonResponse(
        {
            "sounds": sounds,
            "samples": found.samples.tolist() if found else [],
            "kinds": found.kinds.tolist() if found else [],
        }
    )


@require_GET
def count_in(request, pk):
    """The clicks that lead to a time, ``bars`` bars long, in the tempo found there."""
    session = get_object_or_404(Session.objects.select_related("step").defer("finding"), pk=pk)
    at, bars = float(request.GET["at"]), max(1, min(8, int(request.GET.get("bars", 1))))
    if session.step is None:
        return JsonResponse({"samples": [], "kinds": [], "length": 0})
    found, length = click.count_in(session.step.tempo_map, session.rate, at, bars)
    return JsonResponse({"samples": found.samples.tolist(), "kinds": found.kinds.tolist(), "length": length})
