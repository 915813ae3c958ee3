"""Delivering: the map and what is made from it, as files and as bundles of files."""

import io
from typing import Any

import soundfile as sf
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET, require_POST
from pydantic import ValidationError

from core.audio.stems import RATES
from core.following import click
from core.formats import smf
from core.formats.smf import with_count_in
from studio.delivery.bundles import (
    BUNDLES,
    MOST_COUNT_IN,
    Bundle,
    Wanted,
    archive_of,
    names,
    needed_bytes,
    parts_of,
    remember,
    wanted_of,
)
from studio.delivery.click_files import click_file, lead_of
from studio.delivery.content import long_title, plain_title, sections_of
from studio.delivery.documents import DOCUMENTS, counted_midi
from studio.delivery.loops import NoLoop, loop_of
from studio.delivery.writing_bundles import KIND_BEGINS
from studio.desk.clicks import clicks_of
from studio.desk.panels import written
from studio.inputs import LARGEST, whole
from studio.jobs.models import Job
from studio.jobs.queue import start
from studio.jobs.views import progress
from studio.library.models import Session
from studio.parts import sound
from studio.ranges import file_in_ranges

#: Bars of clicks before bar 1 that can be asked for.
COUNT_INS = (0, 1, 2, 3, 4, 8)
_COUNT_IN = f"The count-in has 0 to {MOST_COUNT_IN} bars."


def _with_map(pk: int) -> Session:
    return get_object_or_404(
        Session.objects.select_related("step").prefetch_related("tracks"), pk=pk, step__isnull=False
    )


def _file(data: bytes, session: Session, what: str, kind: str) -> FileResponse:
    name = f"{plain_title(session)} {what}"
    return FileResponse(io.BytesIO(data), as_attachment=True, filename=name, content_type=kind)


def _refused(words: str) -> HttpResponse:
    return HttpResponse(words, status=422, content_type="text/plain; charset=utf-8")


@require_GET
def files(request: HttpRequest, pk: int) -> HttpResponse:
    """The single files that can be had, as a fragment."""
    session = _with_map(pk)
    context = {
        "session": session,
        "documents": DOCUMENTS.values(),
        "parts": parts_of(session),
        "written": written(session.tempo_map),
        "variants": [(n, with_count_in(session.tempo_map, n)[1]) for n in COUNT_INS],
    }
    return render(request, "delivery/files.html", context)


@require_GET
def document(request: HttpRequest, pk: int, key: str) -> HttpResponse | FileResponse:
    """One of :data:`studio.delivery.documents.DOCUMENTS`."""
    session = _with_map(pk)
    if key not in DOCUMENTS:
        raise Http404
    made = DOCUMENTS[key]
    try:
        if key == "map.mid" and request.GET.get("count_in"):
            bars = whole(request.GET["count_in"], 0, MOST_COUNT_IN, _COUNT_IN)
            what = f"map from {bars} bars before bar 1.mid" if bars else "map from bar 1.mid"
            return _file(counted_midi(session, bars), session, what, made.kind)
        return _file(made.make(session), session, made.file, made.kind)
    except smf.MidiError as e:
        return _refused(str(e))


@require_GET
def click_wav(request: HttpRequest, pk: int) -> HttpResponse | FileResponse:
    """The click as it is played at the desk: for the whole take, with ``count_in`` bars before bar 1, or from one bar
    (``from``) up to another (``to``)."""
    session = _with_map(pk)
    count_in = whole(request.GET.get("count_in") or "0", 0, MOST_COUNT_IN, _COUNT_IN)
    first, last = request.GET.get("from"), request.GET.get("to")
    if not first and not last:
        return _file(click_file(session, count_in), session, "click.wav", "audio/wav")
    tempo_map, rate = session.tempo_map, session.sample_rate
    begin, end = 0, round(session.seconds * rate)
    if last:
        end = min(end, round(float(tempo_map.bar_seconds(whole(last) + 1)) * rate))
    if first:
        begin = round(float(tempo_map.bar_seconds(whole(first))) * rate)
    if not 0 <= begin < end:
        return _refused("Those bars hold nothing.")
    made = click.render(clicks_of(session, tempo_map), rate, end - begin, session.click_style.sound, begin)
    out = io.BytesIO()
    sf.write(out, made, rate, "PCM_24", format="WAV")
    return _file(out.getvalue(), session, "click.wav", "audio/wav")


@require_GET
def part_wav(request: HttpRequest, pk: int, part: int) -> HttpResponse | FileResponse:
    """A part as it sounds, as long as the take."""
    session = _with_map(pk)
    found = get_object_or_404(session.parts.select_related("step"), pk=part)
    out = io.BytesIO()
    with sf.SoundFile(out, "w", session.sample_rate, 2, "PCM_24", format="WAV") as file:
        for samples in sound.for_file(found, session.map_step, session.sample_rate, session.frames):
            file.write(samples)
    return _file(out.getvalue(), session, f"{found.name}.wav", "audio/wav")


@require_GET
def loop_wav(request: HttpRequest, pk: int) -> HttpResponse | FileResponse:
    """Bars ``from`` to ``to`` cut exactly on their lines, of one track (``track``) or of all that is heard."""
    session = _with_map(pk)
    first, last = whole(request.GET.get("from")), whole(request.GET.get("to"))
    chosen = whole(request.GET.get("track") or "0", 0, LARGEST, "There is no such track.")
    track = next((t for t in session.tracks.all() if t.analysed and t.pk == chosen), None)
    if (chosen and track is None) or not session.tracks.all():
        return _refused("There is no such track.")
    try:
        data = loop_of(session, first, last, track)
    except NoLoop as e:
        return _refused(str(e))
    what = f"bars {first}-{last}" + (f" {track.name}" if track else "")
    return _file(data, session, f"{what}.wav", "audio/wav")


# ---- bundles


@require_GET
def bundles(request: HttpRequest, pk: int) -> HttpResponse:
    """The bundles with what they hold, as a fragment."""
    return _bundles(request, _with_map(pk))


def _bundles(request: HttpRequest, session: Session, error: str = "", status: int = 200) -> HttpResponse:
    working = set(
        Job.objects.filter(session=session, kind__startswith=KIND_BEGINS, state__in=["waiting", "running"]).values_list(
            "kind", flat=True
        )
    )
    context = {
        "session": session,
        "error": error,
        "bundles": [_facts(session, b, f"{KIND_BEGINS}{b.name}" in working) for b in BUNDLES.values()],
        "rate": session.sample_rate,
        "rates": [0, *(r for r in RATES if r != session.sample_rate)],
        "depths": [("16", "16 bit"), ("24", "24 bit"), ("float", "floating point")],
        "most_count_in": MOST_COUNT_IN,
    }
    return render(request, "delivery/bundles.html", context, status=status)


def _facts(session: Session, bundle: Bundle, working: bool) -> dict[str, Any]:
    wanted = wanted_of(session, bundle)
    place = archive_of(session, bundle, wanted)
    ready = place.exists()
    return {
        "bundle": bundle,
        "possible": not (bundle.loops and not sections_of(session))
        and not (bundle.order and not session.turns.exists()),
        "wanted": wanted,
        "files": names(session, bundle),
        "size": place.stat().st_size if ready else needed_bytes(session, bundle, wanted),
        "ready": ready,
        "working": working,
        "lead": lead_of(session.tempo_map, wanted.count_in),
    }


@require_POST
def make_bundle(request: HttpRequest, pk: int, name: str) -> HttpResponse:
    """Remember how the bundle is wanted, and start making it; progress shows at the top of the page."""
    session = _with_map(pk)
    if name not in BUNDLES:
        raise Http404
    bundle = BUNDLES[name]
    arguments = {k: request.POST[k] for k in ("rate", "depth", "count_in") if k in request.POST}
    try:
        numbers = {k: int(v) if k != "depth" else v for k, v in arguments.items()}
        remember(session, bundle, Wanted.model_validate(numbers))
    except (ValueError, ValidationError):
        return _bundles(request, session, "That rate, depth or count-in cannot be made.", 422)
    if bundle.loops and not sections_of(session):
        return _bundles(request, session, "There are no sections yet: choose bars and name them (Shift A).", 422)
    if bundle.order and not session.turns.exists():
        return _bundles(request, session, "Nothing is in the running order yet: Follow, Order.", 422)
    start(session, f"{KIND_BEGINS}{bundle.name}")
    return progress(request, session.pk)


@require_GET
def bundle_zip(request: HttpRequest, pk: int, name: str) -> HttpResponseBase:
    """A bundle that is ready; a download that broke off goes on where it stopped."""
    session = _with_map(pk)
    if name not in BUNDLES:
        raise Http404
    place = archive_of(session, BUNDLES[name], wanted_of(session, BUNDLES[name]))
    if not place.exists():
        raise Http404
    title = f"{long_title(session)}, {BUNDLES[name].title.lower()}.zip"
    return file_in_ranges(request, place, title, "application/zip")
