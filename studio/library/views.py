"""The library page, sessions and tracks."""

from typing import Protocol

from django.db import transaction
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.http import require_GET, require_http_methods, require_POST
from django_htmx.http import HttpResponseClientRedirect, trigger_client_event
from pydantic import Field

from core.audio.naming import session_name
from core.listening.roles import ROLES
from studio.histories import changed
from studio.inputs import Body, read_body
from studio.jobs.models import Job
from studio.library import listing
from studio.library.models import Session, Track, in_scope
from studio.library.uploads import clean_name, shown_name


class Lane(Protocol):
    """Whatever has a level, mute and solo: a track, or a part."""

    gain: float
    muted: bool
    solo: bool
    pan: float


class Mix(Body):
    """A lane's level in dB, mute, solo, pan and name, as far as they are to change."""

    gain: float | None = None
    muted: bool | None = None
    solo: bool | None = None
    pan: float | None = Field(None, ge=-1, le=1)
    name: str | None = Field(None, max_length=1000)


class NewSession(Body):
    """The files that were dropped, and their folder; ``title``: where those tell none."""

    title: str = Field(default="", max_length=1000)
    names: list[str] = Field(default=[], max_length=1000)
    folder: str = Field(default="", max_length=1000)


#: Levels of a lane in dB.
QUIETEST, LOUDEST = -60.0, 12.0


@require_GET
@ensure_csrf_cookie
def library(request: HttpRequest) -> HttpResponse:
    of = listing.from_query(request.GET.dict())
    found, total = listing.page(of)
    end = of.start + len(found)
    context = {
        "sessions": found,
        "listing": of,
        "total": total,
        "more": of.address(start=end) if end < total else "",
        "left": total - end,
    }
    if getattr(request, "htmx", None) and of.start:
        return render(request, "library/rows.html", context)
    numbers = listing.counts()
    context |= {
        "states": [(s, words, numbers[s], of.address(state=s, start=0)) for s, words in listing.STATES.items()],
        "heads": [_head(of, *h) for h in _HEADS],
        "tags": [(t, of.address(tag="" if t == of.tag else t, start=0)) for t in listing.tags()],
        "all": numbers[""],
        "at_work": numbers["work"],
        "same": of.address(start=0),
    }
    if getattr(request, "htmx", None):
        return render(request, "library/list.html", context)
    return render(request, "library/library.html", {**context, "bin": in_scope(Session.everything.filter(gone=True))})


#: Heads of the list's columns: words, what they sort by, whether they hold numbers.
_HEADS = (
    ("Session", "title", False),
    ("Length", "length", True),
    ("Tracks", "tracks", True),
    ("Bars", "", True),
    ("Meter", "", False),
    ("Tempo", "tempo", False),
    ("Contour", "", False),
    ("State", "doubts", False),
    ("Changed", "touched", False),
)


def _head(of: listing.Listing, words: str, sort: str, number: bool) -> dict[str, object]:
    here = bool(sort) and of.sort == sort
    down = not of.down if here else listing.SORTS[sort][2] if sort else False
    return {
        "words": words,
        "number": number,
        "address": of.address(sort=sort, down=down, start=0) if sort else "",
        "sorted": ("descending" if of.down else "ascending") if here else "",
    }


@require_POST
def create(request: HttpRequest) -> HttpResponse:
    """A new session, named after what was dropped."""
    arguments = read_body(request, NewSession) if request.body else NewSession()
    named = session_name([clean_name(n) for n in arguments.names], arguments.folder)
    title = clean_name(named or arguments.title or "New session")
    session = Session.objects.create(title=title)
    return JsonResponse({"id": session.pk, "url": reverse("desk", args=[session.pk])})


@require_http_methods(["POST", "DELETE"])
def session(request: HttpRequest, pk: int) -> HttpResponse:
    """Rename a session, or put it into the bin."""
    found = get_object_or_404(Session, pk=pk)
    if request.method == "DELETE":
        if found.jobs.filter(state=Job.State.RUNNING).exists():
            return HttpResponse("Diachron is working on this session; cancel that first.", status=409)
        Session.objects.filter(pk=pk).update(gone=True, gone_since=timezone.now())
        return HttpResponse("")
    if "tags" in request.POST:
        tags = ",".join(dict.fromkeys(t.strip()[:60] for t in request.POST["tags"].split(",") if t.strip()))
        found.tags = f",{tags[:990]}," if tags else ""
        Session.objects.filter(pk=pk).update(tags=found.tags)
        return render(
            request, "library/tags.html", {"s": {"session": found, "tags": [t for t in tags.split(",") if t]}}
        )
    title = shown_name(request.POST.get("title", ""))
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


def set_mix(found: Lane, mix: Mix) -> list[str]:
    """Level, mute, solo and pan of a lane, as far as they are to change; not saved yet. The names of those."""
    new = mix.model_dump(include={"gain", "muted", "solo", "pan"}, exclude_none=True)
    if "gain" in new:
        new["gain"] = max(QUIETEST, min(LOUDEST, new["gain"]))
    for name, value in new.items():
        setattr(found, name, value)
    return list(new)


def mix_words(mix: Mix, lane: str) -> str:
    """What a change of a lane's mix is called in the history."""
    if mix.muted is not None:
        return f"{lane} {'muted' if mix.muted else 'no longer muted'}"
    if mix.solo is not None:
        return f"{lane} {'solo' if mix.solo else 'no longer solo'}"
    return f"{'Pan' if mix.pan is not None else 'Level'} of {lane}"


@require_http_methods(["POST", "DELETE"])
def track(request: HttpRequest, pk: int) -> HttpResponse:
    """Rename a track, say what it is, set its level, mute or solo; take it out of the session, or with ``back`` bring
    it back."""
    found = get_object_or_404(Track.everything.select_related("session"), pk=pk)
    if request.method == "DELETE":
        return _with_track_gone(found, True)
    if "role" in request.POST:
        return _say_role(found, request.POST["role"])
    if request.content_type != "application/json":  # a button of the Gather panel
        return _with_track_gone(found, "out" in request.POST)
    mix = read_body(request, Mix)
    fields = set_mix(found, mix)
    name, called = mix_words(mix, found.name), found.name
    if mix.name is not None:
        found.name = shown_name(mix.name)
        found.guess_role()
        fields += ["name", "role"]
        name = f"Track name: {found.name}"
    with transaction.atomic():
        found.save(update_fields=fields)
        if found.name != called:
            _keep_weight(found, called)
        changed(found.session, name, gesture=mix.name is None)
    return JsonResponse({"ok": True})


def _keep_weight(track: Track, called: str) -> None:
    """A weight as guide goes by the track's name: it goes with the track to its new one."""
    guides = dict(track.session.guides)
    if called not in guides:
        return
    guides[track.name] = guides[called]
    if not track.session.tracks.filter(name=called).exists():
        del guides[called]
    Session.objects.filter(pk=track.session_id).update(guides=guides)


def _say_role(found: Track, role: str) -> HttpResponse:
    """The engineer says what a track is, or that it is nothing of the list (empty)."""
    if role not in ("", *ROLES):
        return HttpResponse("There is no such kind of track.", status=422)
    found.role, found.role_given = role, True
    with transaction.atomic():
        found.save(update_fields=["role", "role_given"])
        changed(found.session, f"{found.name} is {role or 'something else'}")
    return trigger_client_event(HttpResponse(""), "tracks-changed")


def _with_track_gone(found: Track, gone: bool) -> HttpResponse:
    with transaction.atomic():
        Track.everything.filter(pk=found.pk).update(gone=gone)
        changed(found.session, f"{'Took out' if gone else 'Brought back'} {found.name}")
    return trigger_client_event(HttpResponse(""), "tracks-changed")
