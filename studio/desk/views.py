"""The desk: the page, the map under it, what is drawn and what is played."""

import base64
import json

import numpy as np
import orjson
from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.http import require_GET, require_POST

from core.following import click
from core.listening import audio
from core.listening.peaks import LEVELS
from core.tempomap import Meter
from core.tempomap.edits import EditError
from studio.desk import edits, history, panels
from studio.desk.grid import grid
from studio.jobs.models import Job
from studio.jobs.tasks import start
from studio.library.hearing import peaks
from studio.library.models import Session, Track

#: Frames a streamed block: a third of a second at 48 kHz.
BLOCK = 16_384
#: Peaks (or samples) a drawn tile.
TILE = 4096
FOR_EVER = "private, max-age=31536000, immutable"
STALE = "This session was changed in another window. The page now shows its current state; make your edit again."


@require_GET
@ensure_csrf_cookie
def desk(request, pk):
    session = get_object_or_404(Session.objects.prefetch_related("tracks"), pk=pk)
    return render(request, "desk/desk.html", {"session": session, "facts": facts(session)})


def facts(session: Session) -> dict:
    """What the page has to know of the session beside the map."""
    weights = {r["name"]: r for r in session.finding.get("ranks", [])}
    return {
        "id": session.pk,
        "rate": session.rate or 48_000,
        "seconds": session.seconds,
        "block": BLOCK,
        "tile": TILE,
        "levels": list(LEVELS),
        "tracks": [
            {
                "id": t.pk,
                "name": t.name,
                "channels": t.channels,
                "frames": t.frames,
                "heard": t.heard,
                "gain": t.gain,
                "muted": t.muted,
                "solo": t.solo,
                "remarks": t.remarks,
                "weight": weights.get(t.name, {}).get("weight"),
                "reason": weights.get(t.name, {}).get("reason", ""),
            }
            for t in session.tracks.all()
        ],
    }


@require_GET
def session_facts(request, pk):
    return JsonResponse(facts(get_object_or_404(Session.objects.prefetch_related("tracks"), pk=pk)))


def _answer(data: dict, status: int = 200) -> HttpResponse:
    """JSON that may hold numpy arrays."""
    return HttpResponse(
        orjson.dumps(data, option=orjson.OPT_SERIALIZE_NUMPY), content_type="application/json", status=status
    )


def _state(session: Session, tempo_map=None) -> dict:
    """The grid with its place in history."""
    if session.step_id is None:
        return {"step": None, "grid": None, "history": [], "here": -1}
    steps, here = history.line(session)
    return {
        "step": session.step_id,
        "grid": grid(tempo_map or session.step.tempo_map),
        "history": [s.name for s in steps],
        "here": here,
    }


@require_GET
def the_map(request, pk):
    return _answer(_state(get_object_or_404(Session.objects.select_related("step"), pk=pk)))


@require_POST
def edit(request, pk):
    """Do an edit, or with ``preview`` show what it would do. 409 where another window was faster."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    said = json.loads(request.body)
    if session.step is None:
        return _answer({"error": "There is no map yet."}, status=422)
    if said.get("step") != session.step_id:
        return _answer({"error": STALE, **_state(session)}, status=409)
    try:
        edited, name = edits.apply(session, session.step.tempo_map, said)
    except EditError as e:
        return _answer({"error": str(e)}, status=422)
    if said.get("preview"):
        return _answer({"grid": grid(edited), "name": name})
    try:
        history.record(session, edited, name, on=session.step_id)
    except history.Stale:
        return _answer({"error": STALE, **_state(_fresh(pk))}, status=409)
    return _answer(_state(session, edited))


def _fresh(pk) -> Session:
    return Session.objects.select_related("step").get(pk=pk)


@require_POST
def travel(request, pk):
    """Undo or redo by a number of steps."""
    session = get_object_or_404(Session, pk=pk)
    said = json.loads(request.body)
    try:
        history.go(session, int(said["by"]), on=said.get("step"))
    except history.Stale:
        return _answer({"error": STALE, **_state(_fresh(pk))}, status=409)
    return _answer(_state(_fresh(pk)))


# ---- what is drawn


def _bytes(data: bytes, cache: str = FOR_EVER) -> HttpResponse:
    return HttpResponse(data, content_type="application/octet-stream", headers={"Cache-Control": cache})


@require_GET
def peaks_tile(request, pk, level, tile):
    """Peaks of one track: int16 pairs, :data:`TILE` of them, at ``level`` samples a pair."""
    track = get_object_or_404(Track, pk=pk, heard=True)
    try:
        return _bytes(peaks(track, level, tile * TILE, TILE))
    except (KeyError, FileNotFoundError):
        raise Http404 from None


@require_GET
def samples_tile(request, pk, tile):
    """Single samples of one track, channels averaged, as float32, for the deepest zoom."""
    track = get_object_or_404(Track, pk=pk, heard=True)
    return _bytes(audio.read(track.playback, tile * TILE, TILE).mean(axis=1).tobytes())


# ---- what is played


@require_GET
def block(request, pk, number):
    """Block ``number`` of the tracks asked for: planar float32, track by track, channel by channel."""
    session = get_object_or_404(Session, pk=pk)
    try:
        wanted = [int(n) for n in request.GET.get("tracks", "").split(",")]
        tracks = session.tracks.in_bulk(wanted)
        parts = [
            np.ascontiguousarray(audio.read(tracks[n].playback, number * BLOCK, BLOCK).T).tobytes() for n in wanted
        ]
    except (KeyError, ValueError):  # a track was taken out meanwhile: the page lays its tracks anew
        raise Http404 from None
    return _bytes(b"".join(parts), "private, no-store")


@require_GET
def click_track(request, pk):
    """The click: at which samples it sounds, and the sounds."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    rate = session.rate or 48_000
    sounds = [base64.b64encode(s.tobytes()).decode() for s in click.sounds(rate)]
    found = click.clicks(session.step.tempo_map, rate, session.seconds) if session.step else None
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
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    at, bars = float(request.GET["at"]), max(1, min(8, int(request.GET.get("bars", 1))))
    if session.step is None:
        return JsonResponse({"samples": [], "kinds": [], "length": 0})
    found, length = click.count_in(session.step.tempo_map, session.rate, at, bars)
    return JsonResponse({"samples": found.samples.tolist(), "kinds": found.kinds.tolist(), "length": length})


STAGES = ("gather", "guide", "find", "check", "follow", "deliver")


@require_GET
def panel(request, pk, stage):
    """The side panel of a stage, as a fragment; on ``check`` with what is to know of the selected beat."""
    if stage not in STAGES:
        raise Http404
    session = get_object_or_404(Session.objects.select_related("step").prefetch_related("tracks"), pk=pk)
    context = {"session": session, "facts": facts(session)}
    if session.step:
        tempo_map = session.step.tempo_map
        context["map"] = panels.overall(tempo_map)
        if stage == "check":
            steps, here = history.line(session)
            context |= {"steps": list(enumerate(steps))[::-1], "here": here}
            context["doubts"] = panels.open_doubts(tempo_map, session.finding)
            if request.GET.get("beat"):
                context["beat"] = panels.beat(tempo_map, int(request.GET["beat"]))
        if stage == "find":
            context["alternatives"] = [a["name"] for a in session.finding.get("alternatives", [])]
        if stage == "deliver":
            context["written"] = panels.written(tempo_map)
    return render(request, f"desk/panels/{stage}.html", context)


@require_POST
def wishes(request, pk):
    """What the engineer says before beats are found: tempo range and meter. Then finding starts."""
    session = get_object_or_404(Session, pk=pk)
    try:
        low, high = float(request.POST["slowest"]), float(request.POST["fastest"])
        if not 20 <= low < high <= 400:
            raise ValueError("A tempo range rises and lies within 20 and 400.")
        text = request.POST.get("meter", "").strip()
        meter = Meter.parse(text).felt if text else ""
    except ValueError as e:
        words = str(e) if "could not convert" not in str(e) else "The tempo range needs two numbers."
        return render(request, "desk/panels/find.html", {"session": session, "error": words}, status=422)
    Session.objects.filter(pk=pk).update(slowest=low, fastest=high, meter=meter)
    session.refresh_from_db()
    start(session, Job.Kind.FIND)
    return render(request, "desk/panels/find.html", {"session": session, "started": True})
