"""Doing a job in a worker process, and telling how far it is."""

from __future__ import annotations

import logging
import time

from django.conf import settings

from studio.actors import actor_name
from studio.disk import FULL, is_full, of_the_disk
from studio.jobs.models import Cancelled, Job
from studio.jobs.queue import end
from studio.jobs.registry import Failed, kind_of

log = logging.getLogger(__name__)

BUG = "Something went wrong inside Diachron. Your tracks and map are safe; the log has the details under job {}."
#: Seconds between two notes of progress.
_EVERY = 0.2


def work(job: Job) -> None:
    """Do a job that was taken, and note how it ended."""
    actor_name.set(job.by)  # what it stores is theirs
    try:
        kind_of(job.kind).work(job, Reporter(job))
        end(job, Job.State.DONE)
    except Cancelled:
        end(job, Job.State.CANCELLED)
    except Failed as e:
        end(job, Job.State.FAILED, str(e))
    except OSError as e:
        end(job, Job.State.FAILED, f"{of_the_disk(e)} Your tracks and map are safe.")
    except MemoryError:
        end(job, Job.State.FAILED, "This needs more memory than the machine has free. Your tracks and map are safe.")
    except Exception:
        log.exception("job %s", job.pk)
        # libraries that write sound do not say why they could not
        words = f"{FULL} Your tracks and map are safe." if is_full(settings.DATA) else BUG.format(job.pk)
        end(job, Job.State.FAILED, words)


class Reporter:
    """Passes stage and share on to the page, a few times a second, and stops work that was cancelled."""

    def __init__(self, job: Job) -> None:
        self.job, self.last, self.stage = job, 0.0, ""

    def __call__(self, stage: str, share: float) -> None:
        now = time.monotonic()
        if stage == self.stage and now - self.last < _EVERY:
            return
        self.last, self.stage = now, stage
        mine = Job.objects.filter(pk=self.job.pk, lease=self.job.lease, cancel_asked=False)
        if not mine.update(stage=stage[:200], share=min(1.0, max(0.0, share))):
            raise Cancelled
