"""The desk: the page, the map under it, its edits, and the side panels."""

import math
import re
from typing import Any, Literal

from django.db import transaction
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.http import require_GET, require_POST
from django_htmx.http import trigger_client_event
from pydantic import BaseModel, ConfigDict, Field

from core.audio.peaks import LEVELS
from core.editing import Contradiction, apply
from core.editing.stretches import RATIOS
from core.errors import InputError
from core.following.click import FIGURES, SOUNDS
from core.formats.map_files import ENDINGS
from core.listening.roles import ROLES
from core.tempomap import Meter
from core.tempomap.edits import EditError
from core.tempomap.limits import checked_range
from studio.analysis.features import guide_ranks, peak
from studio.analysis.laying_out import lay_out, starts
from studio.analysis.models import latest
from studio.analysis.separate_job import SEPARATE
from studio.desk import history, panels
from studio.desk.carried_job import CARRIED, carried_by
from studio.desk.commands import command_json, read_command
from studio.desk.find_job import FIND
from studio.desk.grid import change, grid
from studio.desk.recording import SessionRecording
from studio.desk.statements import answer, document_of
from studio.desk.waveform_views import TILE
from studio.histories import Stale, changed, recorded
from studio.inputs import LARGEST, Body, Key, read_body, whole
from studio.jobs.queue import start
from studio.jobs.views import progress
from studio.library.models import Session, Track
from studio.reshaping.pane import pane_context
from studio.reshaping.result import Result, in_clock
from studio.responses import json_response
from studio.streaming import BLOCK

_LIGHT = Session.objects.select_related("step").defer("step__map")
STALE = "This session was changed in another window. The page now shows its current state; make your edit again."


@require_GET
@ensure_csrf_cookie
def desk(request: HttpRequest, pk: int) -> HttpResponse:
    session = get_object_or_404(Session.objects.prefetch_related("tracks"), pk=pk)
    context = {"session": session, "facts": facts(session), "paces": range(100, 45, -5)}
    return render(request, "desk/desk.html", context)


def facts(session: Session, result: Result | None = None) -> dict[str, Any]:
    """What the page has to know of the session beside the map; of its ``result`` on that one's clock."""
    ranks = guide_ranks(session)
    return {
        "id": session.pk,
        "title": session.title,
        "rate": session.sample_rate,
        "seconds": result.seconds if result else session.seconds,
        "clock": result.key if result else "",
        "block": BLOCK,
        "tile": TILE,
        "levels": list(LEVELS),
        "tracks": [
            {
                "id": t.pk,
                "name": t.name,
                "channels": t.channels,
                "frames": result.frames(t) if result and t.analysed else t.frames,
                "analysed": t.analysed,
                "peak": peak(t),
                "version": result.version(t.pk) if result and t.analysed else "",
                "gain": t.gain,
                "muted": t.muted,
                "solo": t.solo,
                "pan": t.pan,
                "role": t.role,
                "remarks": t.remarks,
                "weight": ranks[t.pk].weight if t.pk in ranks else None,
                "given": session.guides.get(t.name),
                "reason": ranks[t.pk].reason if t.pk in ranks else "",
            }
            for t in session.tracks.all()
        ],
        "parts": [
            {
                "id": p.pk,
                "name": p.name,
                "instrument": p.instrument,
                "channels": 2,
                "gain": p.gain,
                "muted": p.muted,
                "solo": p.solo,
                "pan": p.pan,
                "rides": p.now.rides,
                "step": p.step_id,
            }
            for p in session.parts.filter(gone=False).select_related("step").defer("step__notes")
        ],
    }


@require_GET
def session_facts(request: HttpRequest, pk: int) -> HttpResponse:
    session = get_object_or_404(Session.objects.select_related("step").prefetch_related("tracks"), pk=pk)
    return JsonResponse(facts(session, in_clock(request, session)))


def _state(session: Session, grid_data: dict[str, Any] | None = None) -> dict[str, Any]:
    """The grid (as already ``grid_data``, where it is) with its place in history."""
    if session.step_id is None:
        return {"step": None, "grid": None, "here": -1}
    return {
        "step": session.step_id,
        "grid": grid_data or grid(session.tempo_map),
        "here": session.map_step.place,
        "name": session.map_step.name,
    }


@require_GET
def the_map(request: HttpRequest, pk: int) -> HttpResponse:
    session = get_object_or_404(_LIGHT, pk=pk)
    step = session.step_id
    in_clock(request, session)
    return json_response({**_state(session), "step": step})


class Edit(BaseModel):
    """An edit: beside these the fields of its command. ``step``: what the page shows; ``had``: it has that grid;
    ``answers``: the kind of doubt about the whole take that this answers, so that it is not asked again."""

    model_config = ConfigDict(extra="allow", allow_inf_nan=False)

    step: Key | None = None
    had: bool = False
    preview: bool = False
    overrule: bool = False
    answers: Literal["level", "phase", "bar lines", "bar length"] | None = None


class Undo(Body):
    """Undo or redo by a number of steps, or go to any; ``step``: what the page shows."""

    step: Key | None = None
    by: int = Field(0, ge=-LARGEST, le=LARGEST)
    to: Key | None = None


@require_POST
def edit(request: HttpRequest, pk: int) -> HttpResponse:
    """Do a command, or with ``preview`` show what it would do; ``overrule``: what was said against it is taken back.

    409 where another window was faster, 422 with a sentence where the command is refused.
    """
    session = get_object_or_404(_LIGHT, pk=pk)
    arguments = read_body(request, Edit)
    if not history.same_map(session, arguments.step):
        return json_response({"error": STALE, **_state(session)}, status=409)
    document = document_of(session)
    try:
        command = read_command(arguments.model_extra or {})
        applied = apply(command, document, SessionRecording(session), arguments.preview, arguments.overrule)
    except Contradiction as e:
        return json_response({"error": str(e), "contradicts": True}, status=422)
    except EditError as e:
        return json_response({"error": str(e)}, status=422)
    edited = applied.document.map
    assert edited is not None  # every command ends with a map
    # a page that says so has the grid of this step; mostly a few of its beats move
    before = document.map if arguments.had else None
    grid_data = (before and change(before, edited)) or grid(edited)
    if arguments.preview:
        return json_response({"grid": grid_data, "name": applied.name})
    flipped = command_json(applied.flipped) if applied.flipped else None
    if edited == document.map and applied.document.statements == document.statements:
        return json_response({**_state(session, grid_data), "unchanged": True})
    try:
        with transaction.atomic():
            if arguments.answers:
                answer(session, arguments.answers)
            history.record(session, edited, applied.name, session.step_id, applied.document.statements)
    except Stale:
        return json_response({"error": STALE, **_state(_fresh(pk))}, status=409)
    recorded.set(None)  # the answer tells the step together with its map, not a moment before
    return json_response({**_state(session, grid_data), "flipped": flipped})


def _fresh(pk: int) -> Session:
    return _LIGHT.get(pk=pk)


@require_POST
def undo_redo(request: HttpRequest, pk: int) -> HttpResponse:
    """Undo or redo by a number of steps (``by``), or go to any step (``to``), such as a named version."""
    session = get_object_or_404(Session, pk=pk)
    arguments = read_body(request, Undo)
    try:
        if arguments.to is not None:
            history.go_to(session, get_object_or_404(session.steps, pk=arguments.to), on=arguments.step)
        else:
            history.undo_redo(session, arguments.by, on=arguments.step)
    except Stale:
        return json_response({"error": STALE, **_state(_fresh(pk))}, status=409)
    return json_response(_state(_fresh(pk)))


#: Steps of the history that the panel lists at first, before the current one and after it.
STEPS_SHOWN = 200
#: The stages of the work, each with its side panel.
STAGES = ("gather", "guide", "find", "check", "follow", "reshape", "deliver")


@require_GET
def panel(request: HttpRequest, pk: int, stage: str) -> HttpResponse:
    """The side panel of a stage, as a fragment; on ``check`` with what is to know of the selected beat."""
    if stage not in STAGES:
        raise Http404
    session = get_object_or_404(Session.objects.select_related("step").prefetch_related("tracks"), pk=pk)
    context = {"session": session, "facts": facts(session)}
    if stage == "find":
        context["map_endings"] = ",".join(ENDINGS)
    if stage == "gather":
        context["starts"] = starts(session)
        context["roles"] = ROLES
        context["laid_out"] = any(t.offset for t in session.tracks.all())
        context["gone"] = Track.everything.filter(session=session, gone=True)
    if session.step:
        tempo_map = session.tempo_map
        context["map"] = panels.overall(tempo_map)
        if stage == "check":
            steps, here, aside = history.line_and_aside(session)
            count = whole(request.GET.get("steps") or str(STEPS_SHOWN), 1, 10**6, "How many steps is a whole number.")
            first, last = max(0, here - count), here + STEPS_SHOWN
            shown = list(enumerate(steps))[first:last]
            context |= {"steps": shown[::-1], "here": here, "earlier": first, "more": count + STEPS_SHOWN}
            context["aside"] = aside[:STEPS_SHOWN]
            context["ratios"] = [(*of, key) for of, key in zip(RATIOS.items(), "HD4567", strict=True)]
            context["versions"] = session.steps.exclude(version="").defer("map")
            if request.GET.get("beat"):
                chosen = whole(request.GET["beat"], -(10**6), 10**6, "A beat is a whole number.")
                context["beat"] = panels.beat(tempo_map, chosen)
        if stage == "find":
            context["alternatives"] = [a["name"] for a in latest(session, "alternatives")["alternatives"]]
        if stage == "follow":
            context |= {"sounds": SOUNDS, "figures": FIGURES}
        if stage == "reshape":
            context |= pane_context(session)
    return render(request, f"desk/panels/{stage}.html", context)


def _second(text: str | None) -> float | None:
    """Seconds as an engineer writes them: 83.5, 83,5 or 1:23.5; empty: none. Raises :class:`core.errors.InputError`."""
    text = (text or "").strip().replace(",", ".")
    if not text:
        return None
    match = re.fullmatch(r"(?:(\d{1,4}):)?(\d{1,6}(?:\.\d{0,9})?)", text)
    if not match:
        raise InputError(f"“{text}” is no time; write it like 83.5 or 1:23.5.")
    return 60 * int(match[1] or 0) + float(match[2])


#: Seconds of the shortest music in which beats are found.
_SHORTEST = 4


def _number(text: str | None) -> float:
    """One end of the tempo range. Raises :class:`core.errors.InputError`."""
    try:
        return float((text or "").replace(",", "."))
    except ValueError:
        raise InputError("The tempo range needs two numbers.") from None


@require_POST
def find(request: HttpRequest, pk: int) -> HttpResponse:
    """Start finding beats; with ``first``, only where there is no map yet, and none in a recording."""
    session = get_object_or_404(Session, pk=pk)
    if not request.GET.get("first"):
        start(session, FIND)
    elif session.step is None and session.tracks.exists():
        start(session, CARRIED if carried_by(session) else FIND)
    return progress(request, pk)


@require_POST
def lay_out_tracks(request: HttpRequest, pk: int) -> HttpResponse:
    """Lay the tracks out by the time stamps in their files, or with ``together`` all at time zero again."""
    session = get_object_or_404(Session.objects.prefetch_related("tracks"), pk=pk)
    lay_out(session, "together" not in request.POST)
    return trigger_client_event(progress(request, pk), "tracks-changed")


@require_POST
def take_apart(request: HttpRequest, pk: int) -> HttpResponse:
    """Start taking a finished mix apart into its strokes and its tones."""
    track = get_object_or_404(Track.objects.select_related("session"), pk=pk, midi=False)
    start(track.session, SEPARATE, track)
    return progress(request, track.session_id)


@require_POST
def options(request: HttpRequest, pk: int) -> HttpResponse:
    """What the engineer says before beats are found: tempo range, meter, steadiness, ends. Then finding starts."""
    session = get_object_or_404(Session, pk=pk)
    try:
        low, high = (_number(request.POST.get(name)) for name in ("slowest", "fastest"))
        checked_range(low, high)
        text = request.POST.get("meter", "").strip()
        meter = Meter.parse(text).felt if text else ""
        begins, ends = _second(request.POST.get("music_from")), _second(request.POST.get("music_to"))
        if begins is not None and ends is not None and ends - begins < _SHORTEST:
            raise InputError(f"The music's end lies at least {_SHORTEST} seconds after its start.")
    except InputError as e:
        context = {"session": session, "error": str(e), "typed": request.POST}
        return render(request, "desk/panels/find.html", context, status=422)
    steady = {"steady": True, "free": False}.get(request.POST.get("steady", ""))
    Session.objects.filter(pk=pk).update(
        slowest=low, fastest=high, meter=meter, steady=steady, music_from=begins, music_to=ends
    )
    changed(session, "What beats are found with")
    session.refresh_from_db()
    start(session, FIND)
    return render(request, "desk/panels/find.html", {"session": session, "started": True})


@require_POST
def guides(request: HttpRequest, pk: int) -> HttpResponse:
    """Weights that the engineer gives the tracks as guides (percent; all empty: automatic). Then finding starts."""
    session = get_object_or_404(Session.objects.prefetch_related("tracks"), pk=pk)
    given, error = {}, ""
    for track in session.tracks.all():
        text = request.POST.get(f"weight-{track.pk}", "").strip().replace(",", ".")
        try:
            if text:
                given[track.name] = float(text)
                if not math.isfinite(given[track.name]):
                    raise ValueError
        except ValueError:
            error = f"“{text}” is no weight; write a number from 0 to 100, or nothing."
    if not error and given and (min(given.values()) < 0 or max(given.values()) > 100 or not any(given.values())):
        error = "Weights lie between 0 and 100, and one of them has to be above 0."
    if not error:
        Session.objects.filter(pk=pk).update(guides=given)
        changed(session, "Weights of the guides")
        session.refresh_from_db()
        start(session, FIND)
    context = {"session": session, "facts": facts(session), "error": error, "started": not error}
    return render(request, "desk/panels/guide.html", context, status=422 if error else 200)
