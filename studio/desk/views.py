"""The desk: the page, the map under it, its edits, and the side panels."""

import json
import re

from django.http import Http404, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.http import require_GET, require_POST

from core.following.click import FIGURES, SOUNDS
from core.listening.peaks import LEVELS
from core.tempomap import Meter
from core.tempomap.edits import EditError
from studio.desk import edits, history, panels
from studio.desk.answers import answer
from studio.desk.drawn import TILE
from studio.desk.edits.stretches import RATIOS
from studio.desk.grid import change, grid
from studio.desk.played import BLOCK
from studio.jobs.models import Job
from studio.jobs.tasks import start
from studio.library.models import Session

#: Sessions without what the last search found (whole maps of other readings) and without the text of their map, which
#: is mostly at hand: no edit needs to read them.
_LIGHT = Session.objects.select_related("step").defer("finding", "step__map")
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
                "given": session.guides.get(t.name),
                "reason": weights.get(t.name, {}).get("reason", ""),
            }
            for t in session.tracks.all()
        ],
        "parts": [
            {
                "id": p.pk,
                "name": p.name,
                "instrument": p.instrument,
                "channels": 1,
                "gain": p.gain,
                "muted": p.muted,
                "solo": p.solo,
                "rides": p.step.rides,
                "step": p.step_id,
            }
            for p in session.parts.filter(gone=False).select_related("step").defer("step__notes")
        ],
    }


@require_GET
def session_facts(request, pk):
    return JsonResponse(facts(get_object_or_404(Session.objects.prefetch_related("tracks"), pk=pk)))


def _state(session: Session, drawn: dict | None = None) -> dict:
    """The grid (as already ``drawn``, where it is) with its place in history."""
    if session.step_id is None:
        return {"step": None, "grid": None, "here": -1}
    return {
        "step": session.step_id,
        "grid": drawn or grid(session.step.tempo_map),
        "here": session.step.place,
        "name": session.step.name,
    }


@require_GET
def the_map(request, pk):
    return answer(_state(get_object_or_404(_LIGHT, pk=pk)))


@require_POST
def edit(request, pk):
    """Do an edit, or with ``preview`` show what it would do. 409 where another window was faster."""
    session = get_object_or_404(_LIGHT, pk=pk)
    said = json.loads(request.body)
    if said.get("step") != session.step_id:
        return answer({"error": STALE, **_state(session)}, status=409)
    try:
        edited, name = edits.apply(session, session.step.tempo_map if session.step else None, said)
    except EditError as e:
        return answer({"error": str(e)}, status=422)
    # a page that says so has the grid of this step; mostly a few of its beats move
    had = session.step.tempo_map if session.step and said.get("had") else None
    drawn = (had and change(had, edited)) or grid(edited)
    if said.get("preview"):
        return answer({"grid": drawn, "name": name})
    try:
        history.record(session, edited, name, on=session.step_id)
    except history.Stale:
        return answer({"error": STALE, **_state(_fresh(pk))}, status=409)
    return answer(_state(session, drawn))


def _fresh(pk) -> Session:
    return _LIGHT.get(pk=pk)


@require_POST
def travel(request, pk):
    """Undo or redo by a number of steps (``by``), or go to any step (``to``), such as a named version."""
    session = get_object_or_404(Session.objects.defer("finding"), pk=pk)
    said = json.loads(request.body)
    try:
        if "to" in said:
            history.go_to(session, get_object_or_404(session.steps, pk=said["to"]), on=said.get("step"))
        else:
            history.go(session, int(said["by"]), on=said.get("step"))
    except history.Stale:
        return answer({"error": STALE, **_state(_fresh(pk))}, status=409)
    return answer(_state(_fresh(pk)))


#: The stages of the work, each with its side panel.
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
            context["ratios"] = [(*of, key) for of, key in zip(RATIOS.items(), "HD4567", strict=True)]
            context["versions"] = session.steps.exclude(version="").defer("map")
            if request.GET.get("beat"):
                context["beat"] = panels.beat(tempo_map, int(request.GET["beat"]))
        if stage == "find":
            context["alternatives"] = [a["name"] for a in session.finding.get("alternatives", [])]
        if stage == "follow":
            context |= {"sounds": SOUNDS, "figures": FIGURES}
        if stage == "deliver":
            context["written"] = panels.written(tempo_map)
    return render(request, f"desk/panels/{stage}.html", context)


def _second(text: str | None) -> float | None:
    """Seconds as an engineer writes them: 83.5, 83,5 or 1:23.5; empty: none. Raises ``ValueError``."""
    text = (text or "").strip().replace(",", ".")
    if not text:
        return None
    match = re.fullmatch(r"(?:(\d+):)?(\d+(?:\.\d*)?)", text)
    if not match:
        raise ValueError(f"“{text}” is no time; write it like 83.5 or 1:23.5.")
    return 60 * int(match[1] or 0) + float(match[2])


@require_POST
def wishes(request, pk):
    """What the engineer says before beats are found: tempo range, meter, steadiness, ends. Then finding starts."""
    session = get_object_or_404(Session, pk=pk)
    try:
        low, high = float(request.POST["slowest"]), float(request.POST["fastest"])
        if not 20 <= low < high <= 400:
            raise ValueError("A tempo range rises and lies within 20 and 400.")
        text = request.POST.get("meter", "").strip()
        meter = Meter.parse(text).felt if text else ""
        begins, ends = _second(request.POST.get("music_from")), _second(request.POST.get("music_to"))
        if begins is not None and ends is not None and ends - begins < 4:
            raise ValueError("The music's end lies at least four seconds after its start.")
    except ValueError as e:
        words = str(e) if "could not convert" not in str(e) else "The tempo range needs two numbers."
        return render(request, "desk/panels/find.html", {"session": session, "error": words}, status=422)
    steady = {"steady": True, "free": False}.get(request.POST.get("steady", ""))
    Session.objects.filter(pk=pk).update(
        slowest=low, fastest=high, meter=meter, steady=steady, music_from=begins, music_to=ends
    )
    session.refresh_from_db()
    start(session, Job.Kind.FIND)
    return render(request, "desk/panels/find.html", {"session": session, "started": True})


@require_POST
def guides(request, pk):
    """Weights that the engineer gives the tracks as guides (percent; all empty: as heard). Then finding starts."""
    session = get_object_or_404(Session.objects.prefetch_related("tracks"), pk=pk)
    given, error = {}, ""
    for track in session.tracks.all():
        text = request.POST.get(f"weight-{track.pk}", "").strip().replace(",", ".")
        try:
            if text:
                given[track.name] = float(text)
        except ValueError:
            error = f"“{text}” is no weight; write a number from 0 to 100, or nothing."
    if not error and given and (min(given.values()) < 0 or max(given.values()) > 100 or not any(given.values())):
        error = "Weights lie between 0 and 100, and one of them has to be above 0."
    if not error:
        Session.objects.filter(pk=pk).update(guides=given)
        session.refresh_from_db()
        start(session, Job.Kind.FIND)
    context = {"session": session, "facts": facts(session), "error": error, "started": not error}
    return render(request, "desk/panels/guide.html", context, status=422 if error else 200)
