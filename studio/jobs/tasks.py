"""Handing work to the worker process, and getting it back when a worker dies."""

from __future__ import annotations

import logging
import threading
import time
from typing import TYPE_CHECKING

from django.db import OperationalError, connection, models
from django.utils import timezone
from django_tasks import task

from studio.jobs.models import SILENCE, TRIES, Job
from studio.jobs.registry import Failed, kind_of

if TYPE_CHECKING:
    from studio.library.models import Session, Track

log = logging.getLogger(__name__)


class Cancelled(Exception):
    """Raised inside running work when the engineer cancelled it."""


def start(session: Session, kind: str, track: Track | None = None) -> Job:
    """Queue a job of a registered kind; the same job that is still open is returned instead of queued twice."""
    same = Job.objects.filter(
        session=session,
        track=track,
        kind=kind,
        state__in=[Job.State.WAITING, Job.State.RUNNING],
        cancel_asked=False,
    ).first()
    if same:
        return same
    job = Job.objects.create(session=session, kind=kind, track=track, stage="Waiting for the worker")
    run.enqueue(job.pk)
    return job


def cancel(job: Job) -> None:
    """A waiting job ends at once; a running one at its next sign of progress."""
    Job.objects.filter(pk=job.pk).update(cancel_asked=True)
    Job.objects.filter(pk=job.pk, state=Job.State.WAITING).update(state=Job.State.CANCELLED)


def revive() -> int:
    """Queue jobs of dead workers again, or give them up with a message after the last try. Returns how many."""
    now = timezone.now()
    lost = Job.objects.filter(state=Job.State.RUNNING, heartbeat__lt=now - SILENCE)
    # a job whose worker died between taking it and starting it waits although no worker runs
    if not Job.objects.filter(state=Job.State.RUNNING, heartbeat__gte=now - SILENCE).exists():
        lost = lost | Job.objects.filter(state=Job.State.WAITING, heartbeat__lt=now - 4 * SILENCE)
    count = 0
    for job in lost:
        mine = Job.objects.filter(pk=job.pk, state=job.state, heartbeat=job.heartbeat)
        if job.cancel_asked:
            count += mine.update(state=Job.State.CANCELLED)
        elif job.tries >= TRIES:
            count += mine.update(
                state=Job.State.FAILED,
                message=f"The analysis stopped {job.tries} times without an answer. Your tracks and map are "
                "safe. Try once more; if it stops again, leave out the track added last.",
            )
        elif mine.update(state=Job.State.WAITING, stage="Starting again", heartbeat=now):
            run.enqueue(job.pk)
            count += 1
    return count


@task()
def run(job_id: int) -> None:
    """Do a job in the worker process. Only one worker gets it, however often it was queued."""
    taken = Job.objects.filter(pk=job_id, state=Job.State.WAITING).update(
        state=Job.State.RUNNING, heartbeat=timezone.now(), tries=models.F("tries") + 1
    )
    if not taken:
        return
    job = Job.objects.select_related("session", "track").get(pk=job_id)
    over = threading.Event()
    heartbeat = threading.Thread(target=_beat, args=(job_id, over), daemon=True)
    heartbeat.start()
    ended = {"state": Job.State.DONE, "share": 1.0, "stage": "Done", "message": ""}
    try:
        kind_of(job.kind).work(job, Reporter(job_id))
    except Cancelled:
        ended = {"state": Job.State.CANCELLED, "stage": "Cancelled"}
    except Failed as e:
        ended = {"state": Job.State.FAILED, "message": str(e)}
    except OSError as e:
        ended = {
            "state": Job.State.FAILED,
            "message": f"The disk reports: {e.strerror or e}. Your tracks and map are safe.",
        }
    except Exception:
        log.exception("job %s", job_id)
        ended = {
            "state": Job.State.FAILED,
            "message": "Something went wrong inside Diachron. Your tracks and map are safe; the log has the details.",
        }
    finally:
        over.set()
        heartbeat.join()
    Job.objects.filter(pk=job_id, state=Job.State.RUNNING).update(heartbeat=timezone.now(), **ended)


def _beat(job_id: int, over: threading.Event) -> None:
    while not over.wait(1.0):
        try:
            Job.objects.filter(pk=job_id).update(heartbeat=timezone.now())
        except OperationalError:
            log.warning("job %s: the database was busy, no heartbeat this time", job_id)
    connection.close()


class Reporter:
    """Passes stage and share on to the page, a few times a second, and stops work that was cancelled."""

    def __init__(self, job_id: int) -> None:
        self.job_id, self.last, self.stage = job_id, 0.0, ""

    def __call__(self, stage: str, share: float) -> None:
        now = time.monotonic()
        if stage == self.stage and now - self.last < 0.2:
            return
        self.last, self.stage = now, stage
        mine = Job.objects.filter(pk=self.job_id)
        if not mine.filter(cancel_asked=False).update(stage=stage[:200], share=min(1.0, max(0.0, share))):
            raise Cancelled
