"""Whether the studio can do its work, for whoever watches it."""

from __future__ import annotations

import shutil

from django.conf import settings
from django.db import DatabaseError, connection
from django.http import HttpRequest, HttpResponse

from studio.jobs.models import Job
from studio.responses import json_response

#: Bytes on the disk under which it will soon refuse uploads.
_SCARCE = 500 * 2**20


def health(request: HttpRequest) -> HttpResponse:
    """200 where all is well, 503 where something needs a hand: database, disk, jobs that nobody does."""
    try:
        with connection.cursor() as cursor:
            cursor.execute("SELECT 1")
        waiting = Job.objects.filter(state=Job.State.WAITING).count()
        running = Job.objects.filter(state=Job.State.RUNNING).count()
        database = "ok"
    except DatabaseError as e:
        waiting = running = 0
        database = str(e)
    free = shutil.disk_usage(settings.DATA).free
    well = database == "ok" and free > _SCARCE
    state = {"well": well, "database": database, "free_bytes": free, "jobs": {"waiting": waiting, "running": running}}
    return json_response(state, 200 if well else 503)
