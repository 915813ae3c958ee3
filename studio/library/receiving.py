"""Files on their way in: announced, received in parts that are each checked, made a track when all of it is right.

The page resumes an interrupted file only where what has arrived is the beginning of the file at hand: it compares
digests (:func:`studio.library.uploads.digest_of_pieces`), and sends a piece anew that arrived in part. The last step is
a request of its own, so that it can be asked for again after a failure.
"""

from __future__ import annotations

import hashlib
import os
import shutil
from typing import Annotated

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_http_methods, require_POST
from pydantic import Field, StringConstraints

from studio.disk import of_the_disk
from studio.inputs import DAMAGED, LARGEST, BadInput, Body, read_body, whole
from studio.jobs.queue import start
from studio.library.models import Session, Upload
from studio.library.uploads import LISTEN, PIECE, Refused, add_track, clean_name, digest_of_pieces, opened
from studio.responses import json_response

#: Bytes that a part has at most, and that a file has at most.
LARGEST_PART, LARGEST_FILE = 16 * 2**20, 64 * 2**30
#: What stays free on the disk, so that the database can always write.
RESERVE = 64 * 2**20
NOT_AS_SENT = "“{}” did not arrive as it was sent. Drop it again: what is wrong is sent anew."

Digest = Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{64}$")]


class Announced(Body):
    """A file that is to come; ``fresh``: what arrived of one of the same name and size is another file."""

    name: str = Field(min_length=1, max_length=1000)
    size: int = Field(ge=0, le=LARGEST)
    fresh: bool = False


class Finished(Body):
    """``digest`` of all pieces; ``among``: the names of all files that were dropped with it."""

    digest: Digest
    among: list[Annotated[str, StringConstraints(max_length=1000)]] = Field([], max_length=1000)


@require_POST
def announce(request: HttpRequest, pk: int) -> HttpResponse:
    """Announce a file: where it goes, how much of it may be here already, and the digest of that."""
    to = get_object_or_404(Session, pk=pk)
    arguments = read_body(request, Announced)
    name = clean_name(arguments.name)
    if not arguments.size:
        return _refused(f"“{name}” is empty: the file has no bytes.")
    if arguments.size > LARGEST_FILE:
        return _refused(f"“{name}” is larger than {LARGEST_FILE >> 30} GB.")
    alike = to.uploads.filter(name=arguments.name, size=arguments.size, outcome__isnull=True).order_by("-pk")
    half_done = None if arguments.fresh else alike.first()
    to.folder.mkdir(parents=True, exist_ok=True)
    received = half_done.received if half_done else 0
    if shutil.disk_usage(to.folder).free - (arguments.size - received) < RESERVE:
        return _refused(f"“{name}” does not fit: the disk is nearly full.", 507)
    going = half_done or Upload.objects.create(session=to, name=arguments.name, size=arguments.size)
    digest = digest_of_pieces(going.path) if received else ""
    return json_response({"id": going.pk, "received": received, "digest": digest})


@require_http_methods(["PUT"])
def part(request: HttpRequest, pk: int) -> HttpResponse:
    """Bytes of an announced file from ``offset`` on, whose SHA-256 the header ``X-Digest`` names."""
    going = get_object_or_404(Upload.objects.select_related("session"), pk=pk, outcome__isnull=True)
    offset = whole(request.GET.get("offset"), 0, LARGEST, "The place of the part is missing.")
    if whole(request.headers.get("Content-Length") or "0", 0, LARGEST, DAMAGED) > LARGEST_PART:
        raise BadInput("The part is too large.", 413)
    if offset not in (going.received, going.received - going.received % PIECE):
        return json_response({"received": going.received}, status=409)
    data = request.body
    if hashlib.sha256(data).hexdigest() != request.headers.get("X-Digest"):
        return json_response({"received": going.received, "error": NOT_AS_SENT.format(going.name)}, status=409)
    if offset + len(data) > going.size:
        raise BadInput("There are more bytes than the file was said to have.")
    try:
        # written to its place, not appended: two windows that send the same part write the same bytes
        going.path.touch()
        with going.path.open("r+b") as f:
            f.seek(offset)
            f.write(data)
            if offset + len(data) == going.size:
                f.flush()
                os.fsync(f.fileno())  # all parts: from here on the page counts on the file
    except OSError as e:
        with going.path.open("ab") as f:
            f.truncate(offset)
        return _refused(f"{of_the_disk(e)} What has arrived is kept; drop the file again to go on.", 507)
    return json_response({"received": going.received})


@require_POST
def finish(request: HttpRequest, pk: int) -> HttpResponse:
    """All has arrived: make it a track. Asked for again, as where the answer did not come, it answers the same."""
    going = get_object_or_404(Upload.objects.select_related("session"), pk=pk)
    arguments = read_body(request, Finished)
    if going.outcome is None:
        if going.received != going.size:
            return json_response({"received": going.received}, status=409)
        _end(going, arguments)
    going.path.unlink(missing_ok=True)  # the track has it; up to here a failure leaves all as it was
    answer = dict(going.outcome or {})
    return json_response(answer, 422 if "error" in answer else 200)


def _end(going: Upload, arguments: Finished) -> None:
    """Make it a track, or say why not; either is kept with the upload, in one transaction."""
    if digest_of_pieces(going.path) != arguments.digest:
        going.outcome = {"error": NOT_AS_SENT.format(clean_name(going.name))}
        going.save(update_fields=["outcome"])
        return
    with transaction.atomic():
        going.refresh_from_db(fields=["outcome"])
        if going.outcome is not None:  # another window's request was faster
            return
        try:
            going.outcome = opened(going.session, going.path, going.name)
            if going.outcome is None:
                track = add_track(going.session, going.path, going.name, arguments.among)
                start(track.session, LISTEN, track)
                going.outcome = {"track": track.pk, "name": track.name}
        except Refused as e:
            going.outcome = {"error": str(e)}
        going.save(update_fields=["outcome"])


def _refused(words: str, status: int = 422) -> HttpResponse:
    return json_response({"error": words}, status=status)
