"""The archive of a session in the page: made, and fetched."""

from django.http import Http404, HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET, require_POST

from studio.archives.jobs import ARCHIVE, place_of
from studio.delivery.content import plain_title
from studio.jobs.models import Job
from studio.jobs.queue import start
from studio.jobs.views import progress
from studio.library.models import Session
from studio.ranges import file_in_ranges


@require_GET
def pane(request: HttpRequest, pk: int) -> HttpResponse:
    """Whether an archive of the session as it is now lies ready, as a fragment."""
    session = get_object_or_404(Session, pk=pk)
    place = place_of(session)
    working = Job.objects.filter(session=session, kind=ARCHIVE, state__in=["waiting", "running"]).exists()
    size = place.stat().st_size if place.exists() else 0
    return render(request, "archives/pane.html", {"session": session, "size": size, "working": working})


@require_POST
def make(request: HttpRequest, pk: int) -> HttpResponse:
    """Start archiving; progress shows at the top of the page."""
    session = get_object_or_404(Session, pk=pk)
    start(session, ARCHIVE)
    return progress(request, pk)


@require_GET
def fetch(request: HttpRequest, pk: int) -> HttpResponseBase:
    """The archive; a download that broke off goes on where it stopped."""
    session = get_object_or_404(Session, pk=pk)
    place = place_of(session)
    if not place.exists():
        raise Http404
    return file_in_ranges(request, place, f"{plain_title(session)}, session.zip", "application/zip")
