"""The library page, and files on their way in."""

import errno
import json
import shutil
from typing import Any, Protocol

from django.db import transaction
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.urls import reverse
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.http import require_GET, require_http_methods, require_POST
from django_htmx.http import HttpResponseClientRedirect, trigger_client_event

from studio.histories import changed
from studio.jobs.models import Job
from studio.jobs.tasks import start
from studio.library.models import Session, Track, Upload
from studio.library.summary import summaries
from studio.library.uploads import LISTEN, Refused, add_track, clean_name


class Lane(Protocol):
    """Whatever has a level, mute and solo: a track, or a part."""

    gain: float
    muted: bool
    solo: bool


#: What stays free on the disk, so that the database can always write.
RESERVE = 64 * 2**20
FULL = "The disk is full. What has arrived is kept; free some space and drop the file again to go on."


@require_GET
@ensure_csrf_cookie
def library(request: HttpRequest) -> HttpResponse:
    bin_ = Session.everything.filter(gone=True)
    return render(request, "library/library.html", {"sessions": summaries(), "bin": bin_})


@require_POST
def create(request: HttpRequest) -> HttpResponse:
    """A new session, named after what was dropped."""
    title = clean_name(json.loads(request.body or b"{}").get("title") or "New session")
    session = Session.objects.create(title=title)
    return JsonResponse({"id": session.pk, "url": reverse("desk", args=[session.pk])})


@require_http_methods(["POST", "DELETE"])
def session(request: HttpRequest, pk: int) -> HttpResponse:
    """Rename a session, or put it into the bin."""
    found = get_object_or_404(Session, pk=pk)
    if request.method == "DELETE":
        if found.jobs.filter(state=Job.State.RUNNING).exists():
            return HttpResponse("Diachron is working on this session; cancel that first.", status=409)
        Session.objects.filter(pk=pk).update(gone=True)
        return HttpResponse("")
    title = clean_name(request.POST.get("title", ""))
    with transaction.atomic():
        Session.objects.filter(pk=pk).update(title=title)
        changed(found, f"Title: {title}")
    return HttpResponse(title)


@require_http_methods(["POST", "DELETE"])
def binned(request: HttpRequest, pk: int) -> HttpResponse:
    """Take a session out of the bin, or remove it for good with its tracks, its map and its history."""
    found = get_object_or_404(Session.everything, pk=pk, gone=True)
    if request.method == "DELETE":
        found.erase()
    else:
        Session.everything.filter(pk=pk).update(gone=False)
    return HttpResponseClientRedirect(reverse("library"))


@require_POST
def upload(request: HttpRequest, pk: int) -> HttpResponse:
    """Announce a file. One of the same name and size that was interrupted goes on where it stopped."""
    to = get_object_or_404(Session, pk=pk)
    params = json.loads(request.body)
    name, size = str(params["name"])[:1000], int(params["size"])
    if size <= 0:
        return JsonResponse({"error": f"“{clean_name(name)}” is empty: the file has no bytes."}, status=422)
    half_done = to.uploads.filter(name=name, size=size).order_by("-pk").first()
    to.folder.mkdir(parents=True, exist_ok=True)
    received = half_done.received if half_done else 0
    if shutil.disk_usage(to.folder).free - (size - received) < RESERVE:
        return JsonResponse({"error": f"“{clean_name(name)}” does not fit: the disk is nearly full."}, status=507)
    going = half_done or Upload.objects.create(session=to, name=name, size=size)
    return JsonResponse({"id": going.pk, "received": received})


@require_http_methods(["PUT"])
def upload_part(request: HttpRequest, pk: int) -> HttpResponse:
    """Bytes of an announced file from ``offset`` on. The last ones make it a track."""
    going = get_object_or_404(Upload.objects.select_related("session"), pk=pk)
    offset = int(request.GET["offset"])
    if offset != going.received:
        return JsonResponse({"received": going.received}, status=409)
    try:
        with going.path.open("ab") as f:
            f.write(request.body)
    except OSError as e:
        with going.path.open("ab") as f:
            f.truncate(offset)
        return JsonResponse({"error": FULL if e.errno == errno.ENOSPC else str(e.strerror)}, status=507)
    if going.received < going.size:
        return JsonResponse({"received": going.received})
    try:
        track = add_track(going.session, going.path, going.name)
    except Refused as e:
        going.path.unlink(missing_ok=True)
        going.delete()
        return JsonResponse({"error": str(e)}, status=422)
    going.delete()
    start(track.session, LISTEN, track)
    return JsonResponse({"track": track.pk, "name": track.name})


def set_mix(found: Lane, params: dict[str, Any]) -> None:
    """Level, mute and solo of whatever has a lane, as far as ``params`` has them; not saved yet."""
    if "gain" in params:
        found.gain = max(-60.0, min(12.0, float(params["gain"])))
    for switch in ("muted", "solo"):
        if switch in params:
            setattr(found, switch, bool(params[switch]))


@require_http_methods(["POST", "DELETE"])
def track(request: HttpRequest, pk: int) -> HttpResponse:
    """Rename a track, set its level, mute or solo; take it out of the session, or with ``back`` bring it back."""
    found = get_object_or_404(Track.everything.select_related("session"), pk=pk)
    if request.method == "DELETE":
        return _with_track_gone(found, True)
    if request.content_type != "application/json":  # a button of the Gather panel
        return _with_track_gone(found, "out" in request.POST)
    params = json.loads(request.body)
    set_mix(found, params)
    name = f"Level of {found.name}"
    if "name" in params:
        found.name = clean_name(str(params["name"]))
        name = f"Track name: {found.name}"
    with transaction.atomic():
        found.save(update_fields=[f for f in ("gain", "muted", "solo", "name") if f in params] or None)
        changed(found.session, name, gesture="name" not in params)
    return JsonResponse({"ok": True})


def _with_track_gone(found: Track, gone: bool) -> HttpResponse:
    with transaction.atomic():
        Track.everything.filter(pk=found.pk).update(gone=gone)
        changed(found.session, f"{'Took out' if gone else 'Brought back'} {found.name}")
    return trigger_client_event(HttpResponse(""), "tracks-changed")
