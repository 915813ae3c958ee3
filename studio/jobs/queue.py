"""The queue of long work: jobs are put in, taken by one worker each, and given back where a worker ends without them.

The table of jobs is the queue. A worker that takes a job gets a *lease*, a number that rises each time the job is
taken; what it stores, it stores only while the job still has that number (:meth:`studio.jobs.models.Job.fence`). So a
worker that slept, hung or was given up can overwrite nothing, whatever the clocks say.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from django.db import models, transaction

from studio.jobs.models import TRIES, Job, Pause

if TYPE_CHECKING:
    from studio.library.models import Session, Track

WAITING, RUNNING = Job.State.WAITING, Job.State.RUNNING


def start(session: Session, kind: str, track: Track | None = None) -> Job:
    """Queue a job of a registered kind; the same job that is still open is returned instead of queued twice."""
    same = Job.objects.filter(
        session=session, track=track, kind=kind, state__in=[WAITING, RUNNING], cancel_asked=False
    ).first()
    return same or Job.objects.create(session=session, kind=kind, track=track, stage="Waiting for the worker")


def cancel(job: Job) -> None:
    """A waiting job ends at once; a running one at its next sign of progress, or with its worker."""
    Job.objects.filter(pk=job.pk).update(cancel_asked=True)
    Job.objects.filter(pk=job.pk, state=WAITING).update(state=Job.State.CANCELLED)


def put_first(job: Job) -> None:
    """Have a waiting job done before all others."""
    first = Job.objects.filter(state=WAITING).aggregate(first=models.Min("place"))["first"] or 0
    Job.objects.filter(pk=job.pk, state=WAITING).update(place=first - 1)


def pause(on: bool) -> None:
    """Begin no more jobs, or go on."""
    if not on:
        Pause.objects.all().delete()
    elif not Pause.objects.exists():
        Pause.objects.create()


def take(worker: str) -> Job | None:
    """The next job for a worker: the first of a session that nobody works on, so that one with many tracks lets the
    others through; none while the queue is paused."""
    if not Job.objects.filter(state=WAITING).exists():  # a look that keeps no writer waiting
        return None
    if Pause.objects.exists():
        return None
    with transaction.atomic():
        busy = Job.objects.filter(state=RUNNING).values("session")
        found = (
            Job.objects.filter(state=WAITING, cancel_asked=False)
            .exclude(session__in=busy)
            .order_by("place", "pk")
            .first()
        )
        return taken(found, worker) if found else None


def taken(job: Job, worker: str) -> Job | None:
    """The job under a new lease; None where it does not wait any more."""
    mine = Job.objects.filter(pk=job.pk, state=WAITING, cancel_asked=False)
    counted = {"lease": models.F("lease") + 1, "tries": models.F("tries") + 1}
    if not mine.update(state=RUNNING, worker=worker, stage="Beginning", **counted):
        return None
    return Job.objects.select_related("session", "track").get(pk=job.pk)


def end(job: Job, state: str, message: str = "") -> None:
    """The job is over, unless it was given to another worker meanwhile."""
    done = {"share": 1.0, "stage": "Done"} if state == Job.State.DONE else {}
    Job.objects.filter(pk=job.pk, lease=job.lease, state=RUNNING).update(state=state, message=message, **done)


def give_back(living: list[str]) -> int:
    """Jobs whose workers are not among the ``living`` wait again, or are given up after the last try. How many."""
    count = 0
    for job in Job.objects.filter(state=RUNNING).exclude(worker__in=living):
        mine = Job.objects.filter(pk=job.pk, lease=job.lease, state=RUNNING)
        new = {"lease": job.lease + 1}  # whatever still runs of it can store nothing
        if job.cancel_asked:
            count += mine.update(state=Job.State.CANCELLED, **new)
        elif job.tries >= TRIES:
            count += mine.update(state=Job.State.FAILED, message=GIVEN_UP.format(job.tries), **new)
        else:
            count += mine.update(state=WAITING, stage="Starting again", **new)
    return count


GIVEN_UP = (
    "The analysis stopped {} times without an answer. Your tracks and map are safe. Try once more; if it stops again, "
    "leave out the track added last."
)
