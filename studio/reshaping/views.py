"""Reshaping: what is wanted, where attacks go, what it costs, and the tracks that come of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from django.db import transaction
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.views.decorators.http import require_GET, require_POST
from django_htmx.http import trigger_client_event

from core.errors import InputError
from core.reshaping.plan import ConformTo
from studio.inputs import read_body, read_json
from studio.jobs.queue import start
from studio.library.lookup import with_map
from studio.library.map_uploads import read_map_upload
from studio.library.models import Session
from studio.reshaping.bundle import zip_of
from studio.reshaping.files import files_of, folder_of, is_ready
from studio.reshaping.models import Reshape
from studio.reshaping.requests import ChangeTightening, read_request
from studio.reshaping.result import plan_of, result_of
from studio.reshaping.takes import BRING, Linking, ask_to_link
from studio.reshaping.track_takes import TrackLinking, ask_to_link_tracks
from studio.reshaping.wanted import save_wanted, wanted_of
from studio.reshaping.work import RESHAPE, Writing
from studio.responses import json_response

_PLAIN = "text/plain; charset=utf-8"


@require_POST
def change(request: HttpRequest, pk: int) -> HttpResponse:
    """Change what is wanted; 422 with a sentence where it cannot be. Answers with the result's key and the moves."""
    session = with_map(pk)
    arguments = read_request(read_json(request))
    try:
        with transaction.atomic():
            wanted, name = arguments.change(wanted_of(session), session)
            save_wanted(session, wanted, name, gesture=isinstance(arguments, ChangeTightening))
            state = _state(session)  # raises where it cannot be done, and nothing is stored
    except InputError as e:
        return json_response({"error": str(e)}, status=422)
    return json_response(state)


@require_POST
def import_map(request: HttpRequest, pk: int) -> HttpResponse:
    """Conform to the map of a file; 422 with a sentence where it cannot be."""
    session = with_map(pk)
    try:
        found = read_map_upload(request)
        with transaction.atomic():
            to = ConformTo("map", map=found.map.to_json(), map_name=found.title)
            save_wanted(session, replace(wanted_of(session), conform=to), f"Conform to the map of {to.map_name}")
            _state(session)  # raises where it cannot be done, and nothing is stored
    except InputError as e:
        return HttpResponse(str(e), status=422, content_type=_PLAIN)
    return trigger_client_event(HttpResponse(status=204), "reshaped")


@require_GET
def state(request: HttpRequest, pk: int) -> HttpResponse:
    """The result's key, and where each attack that is pulled goes."""
    return json_response(_state(with_map(pk)))


def _state(session: Session) -> dict[str, Any]:
    wanted = wanted_of(session)
    result = result_of(session)
    made = result.plan if result else plan_of(session, wanted)
    rows = []
    for one in wanted.tightenings:
        found = made.moves.get(one.key)
        if found is None:
            continue
        rows.append(
            {
                "key": one.key,
                "tracks": wanted.together(one.tracks),
                "attacks": found.attack_sec.round(6),
                "targets": found.target_sec.round(6),
                "goals": [None if np.isnan(g) else round(float(g), 6) for g in found.goal_sec],
                "moved": found.is_moved.tolist(),
                "fences": found.fence_sec.round(6),
            }
        )
    return {
        "key": result.key if result else "",
        "tightenings": rows,
        "moves": [
            {
                "key": m.key,
                "tracks": wanted.together(m.tracks),
                "from": m.attack,
                "to": m.target,
                "fences": made.fences.get(m.key, ()),
            }
            for m in wanted.attack_moves
        ],
        "hushes": [{"track": h.track, "start": h.start, "end": h.end} for h in wanted.hushes],
        "clock": made.clock.to_json() if made.conformed else None,
    }


@require_POST
def write_tracks(request: HttpRequest, pk: int) -> HttpResponse:
    """Start making the files; progress shows at the top of the page."""
    session = with_map(pk)
    writing = Writing(
        depth="float" if request.POST.get("depth") == "float" else "24", companions=bool(request.POST.get("companions"))
    )
    Reshape.objects.update_or_create(session=session, defaults={"writing": writing.model_dump()})
    start(session, RESHAPE)
    return HttpResponse(status=204)


@require_POST
def link_takes(request: HttpRequest, pk: int) -> HttpResponse:
    """Start linking this session to one that leads; progress shows at the top of the page."""
    session = with_map(pk)
    linking = read_body(request, Linking)
    return _linking(lambda: ask_to_link(session, linking))


@require_POST
def link_two_tracks(request: HttpRequest, pk: int) -> HttpResponse:
    """Start linking one track of this session to another one; progress shows at the top of the page."""
    session = with_map(pk)
    linking = read_body(request, TrackLinking)
    return _linking(lambda: ask_to_link_tracks(session, linking))


def _linking(ask: Callable[[], object]) -> HttpResponse:
    try:
        ask()
    except InputError as e:
        return json_response({"error": str(e)}, status=422)
    return json_response({"started": True})


@require_POST
def bring_tracks(request: HttpRequest, pk: int) -> HttpResponse:
    """Start putting this session's tracks, as they follow, beside the leader's."""
    start(with_map(pk), BRING)
    return HttpResponse(status=204)


@require_GET
def download(request: HttpRequest, pk: int) -> FileResponse:
    """All reshaped tracks with both maps, as one file."""
    session = with_map(pk)
    result = result_of(session)
    if result is None or not is_ready(session, result.key):
        raise Http404
    return FileResponse(
        zip_of(folder_of(session, result.key)).open("rb"), as_attachment=True, filename=f"{session.title} reshaped.zip"
    )


@require_GET
def download_one(request: HttpRequest, pk: int, name: str) -> FileResponse:
    """One of the files of a result."""
    session = with_map(pk)
    result = result_of(session)
    if result is None or not is_ready(session, result.key) or name not in files_of(session, result.key):
        raise Http404
    return FileResponse((folder_of(session, result.key) / name).open("rb"), as_attachment=True, filename=name)
