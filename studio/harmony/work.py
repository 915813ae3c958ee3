"""Finding chords: the job."""

from __future__ import annotations

from studio.harmony.analysis import NoChords, analyse_harmony
from studio.jobs.models import Job
from studio.jobs.registry import Failed, JobKind, Report

CHORDS = "chords"


def chords(job: Job, report: Report) -> None:
    """Find the chords, the key and the tuning of the session's tracks."""
    try:
        analyse_harmony(job, report)
    except NoChords as e:
        raise Failed(str(e)) from None


KIND = JobKind(CHORDS, "Finding chords", chords)
