"""Archives of many sessions: all that a listing shows are made, and fetched as one ZIP."""

import zipfile
from collections.abc import Iterator
from dataclasses import dataclass
from io import RawIOBase
from pathlib import Path
from typing import Any

from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import render
from django.views.decorators.http import require_GET, require_http_methods

from studio.archives.jobs import ARCHIVE, place_of
from studio.delivery.content import plain_title
from studio.jobs.models import Job
from studio.jobs.queue import start
from studio.library import listing
from studio.library.models import Session

_PIECE = 1 << 20


@dataclass(frozen=True)
class Archived:
    """A session of the list: the ``size`` of its archive as it is now, 0 where there is none yet; whether it is being
    made, and what went wrong."""

    session: Session
    size: int
    working: bool
    trouble: str


def _sessions(of: listing.Listing) -> list[Session]:
    return list(listing.sessions_of(of).order_by("title", "pk").defer("map_summary"))


def _archived(sessions: list[Session]) -> list[Archived]:
    jobs = Job.objects.filter(kind=ARCHIVE, session__in=sessions).order_by("pk")
    last = {job.session_id: job for job in jobs}
    out = []
    for s in sessions:
        place, job = place_of(s), last.get(s.pk)
        trouble = job.message if job and job.state == Job.State.FAILED else ""
        out.append(Archived(s, place.stat().st_size if place.exists() else 0, bool(job and job.open), trouble))
    return out


@require_http_methods(["GET", "POST"])
def archives(request: HttpRequest) -> HttpResponse:
    """The sessions of a listing and their archives; with POST those that are missing are made."""
    of = listing.from_query(request.GET.dict())
    sessions = _sessions(of)
    rows = _archived(sessions)
    if request.method == "POST":
        for row in rows:
            if not row.size and not row.working:
                start(row.session, ARCHIVE)
        rows = _archived(sessions)
    ready = [r for r in rows if r.size]
    context = {
        "rows": rows,
        "listing": of,
        "same": of.address(start=0),
        "ready": len(ready),
        "size": sum(r.size for r in ready),
        "working": sum(r.working for r in rows),
        "missing": sum(not r.size and not r.working for r in rows),
    }
    part = bool(getattr(request, "htmx", None))
    return render(request, "archives/many_list.html" if part else "archives/many.html", context)


@require_GET
def fetch_all(request: HttpRequest) -> HttpResponseBase:
    """All archives that lie ready, as one ZIP that is put together while it is fetched."""
    taken: set[str] = set()
    files: list[tuple[Path, str]] = []
    for row in _archived(_sessions(listing.from_query(request.GET.dict()))):
        if row.size:
            title = plain_title(row.session)
            name = f"{title}, session.zip" if title not in taken else f"{title} {row.session.pk}, session.zip"
            taken.add(title)
            files.append((place_of(row.session), name))
    response = StreamingHttpResponse(zipped(files), content_type="application/zip")
    response["Content-Disposition"] = 'attachment; filename="sessions.zip"'
    return response


class _Outlet(RawIOBase):
    """A file that hands on what is written to it; it cannot be gone back in."""

    def __init__(self) -> None:
        self.pieces: list[bytes] = []

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        self.pieces.append(bytes(data))
        return len(data)

    def taken(self) -> bytes:
        out = b"".join(self.pieces)
        self.pieces.clear()
        return out


def zipped(files: list[tuple[Path, str]]) -> Iterator[bytes]:
    """A ZIP of files as they are, piece by piece; one that has gone since is left out."""
    outlet = _Outlet()
    with zipfile.ZipFile(outlet, "w", zipfile.ZIP_STORED, allowZip64=True) as out:
        for path, name in files:
            try:
                source = path.open("rb")
            except FileNotFoundError:
                continue
            with source, out.open(zipfile.ZipInfo.from_file(path, name), "w", force_zip64=True) as target:
                while piece := source.read(_PIECE):
                    target.write(piece)
                    yield outlet.taken()
    yield outlet.taken()
