"""What is cleared away by and by: sessions that were long in the bin, uploads nobody went on with, jobs long done."""

from __future__ import annotations

import logging
from datetime import timedelta

from django.utils import timezone

from studio.jobs.models import Job
from studio.library.models import Session, Upload

log = logging.getLogger(__name__)

#: Days in the bin; days that an interrupted upload is kept; days that a finished job is remembered.
IN_BIN, HALF_SENT, REMEMBERED = 30, 7, 30


def clear_away() -> None:
    """Remove what is past its days."""
    now = timezone.now()
    for session in Session.everything.filter(gone=True, gone_since__lt=now - timedelta(days=IN_BIN)):
        log.info("removing the session %s (%s), %s days in the bin", session.pk, session.title, IN_BIN)
        session.erase()
    for upload in Upload.objects.filter(created__lt=now - timedelta(days=HALF_SENT)):
        upload.forget()
    ended = [Job.State.DONE, Job.State.FAILED, Job.State.CANCELLED]
    Job.objects.filter(state__in=ended, created__lt=now - timedelta(days=REMEMBERED)).delete()
