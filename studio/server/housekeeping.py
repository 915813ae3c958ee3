"""What is cleared away by and by: sessions that were long in the bin, uploads nobody went on with, jobs long done,
bundles and archives that can be made again."""

from __future__ import annotations

import logging
from datetime import timedelta

from django.conf import settings
from django.utils import timezone

from studio.jobs.models import Job
from studio.library.models import Session, Upload
from studio.recording.models import GIVEN_UP
from studio.recording.passes import end_cut_off

log = logging.getLogger(__name__)

#: Days in the bin; days that an interrupted upload is kept; days that a finished job is remembered; days that what was
#: made for a download is kept.
IN_BIN, HALF_SENT, REMEMBERED, MADE = 30, 7, 30, 7


def clear_away() -> None:
    """Remove what is past its days."""
    now = timezone.now()
    for session in Session.everything.filter(gone=True, gone_since__lt=now - timedelta(days=IN_BIN)):
        log.info("removing the session %s (%s), %s days in the bin", session.pk, session.title, IN_BIN)
        session.erase()
    for upload in Upload.objects.filter(created__lt=now - timedelta(days=HALF_SENT)):
        upload.forget()
    for session in Session.objects.filter(recordings__ended=False).distinct():
        end_cut_off(session, GIVEN_UP)
    for pattern in ("*/bundles/*.zip", "*/archive/*.zip"):
        for path in settings.SESSIONS_FOLDER.glob(pattern):
            if path.stat().st_mtime < (now - timedelta(days=MADE)).timestamp():
                path.unlink(missing_ok=True)
    ended = [Job.State.DONE, Job.State.FAILED, Job.State.CANCELLED]
    Job.objects.filter(state__in=ended, created__lt=now - timedelta(days=REMEMBERED)).delete()
