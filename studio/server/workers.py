"""The workers of a server: kept alive, kept within limits, and ended where a job that was cancelled does not stop."""

from __future__ import annotations

import os
import subprocess
import sys
import time
import uuid
from dataclasses import dataclass, field
from itertools import count

import psutil
from django.conf import settings

from studio.jobs import queue
from studio.jobs.models import Job

#: Seconds that a cancelled job may take to stop by itself; seconds a job may go on without a sign of progress.
STOPS_WITHIN, STUCK_AFTER = 1.0, 900.0
#: Share of the machine's memory that all workers may have together.
_MEMORY = 0.75
TOO_LARGE = "This needs more memory than the machine has. Your tracks and map are safe; the file may be damaged."
STUCK = "There was no progress for a quarter of an hour. Your tracks and map are safe; the file may be damaged."


@dataclass
class Worker:
    """A worker process and what it was last seen at."""

    name: str
    number: int
    process: subprocess.Popen[bytes]
    seen: tuple[object, ...] = ()
    since: float = field(default_factory=time.monotonic)
    cancelled: float | None = None

    def watch(self, job: Job | None, most_bytes: float) -> str | None:
        """Why the worker has to be ended: a sentence, empty for a job that was cancelled; None: it has not."""
        now = time.monotonic()
        if job is None:
            self.seen, self.cancelled = (), None
            return None
        state = job.pk, job.lease, job.stage, job.share
        if state != self.seen:
            self.seen, self.since = state, now
        if job.cancel_asked:
            self.cancelled = self.cancelled or now
            return "" if now - self.cancelled > STOPS_WITHIN else None
        self.cancelled = None
        if now - self.since > STUCK_AFTER:
            return STUCK
        return TOO_LARGE if _memory(self.process.pid) > most_bytes else None


class Workers:
    """``wanted`` workers, started again when they end."""

    def __init__(self, wanted: int) -> None:
        self.wanted = wanted
        self.workers: list[Worker] = []
        self.most_bytes = _MEMORY * psutil.virtual_memory().total / wanted

    def look_after(self) -> None:
        """Start what is missing, hand on the work of those that ended, end those that go beyond their limits."""
        self.workers = [w for w in self.workers if w.process.poll() is None]
        queue.give_back([w.name for w in self.workers])
        jobs = {j.worker: j for j in Job.objects.filter(state=Job.State.RUNNING)}
        for worker in self.workers:
            job = jobs.get(worker.name)
            reason = worker.watch(job, self.most_bytes)
            if reason is not None and job is not None:
                worker.process.kill()
                worker.process.wait()
                queue.end(job, Job.State.FAILED if reason else Job.State.CANCELLED, reason)
        while len(self.workers) < self.wanted:
            taken = {w.number for w in self.workers}
            self.workers.append(_started(next(n for n in count(1) if n not in taken)))

    def stop(self) -> None:
        for worker in self.workers:
            worker.process.terminate()
        for worker in self.workers:
            try:
                worker.process.wait(timeout=5)
            except subprocess.TimeoutExpired:
                worker.process.kill()
        queue.give_back([])


def _started(number: int) -> Worker:
    """``number`` names its log; its name under which it takes jobs is new each time."""
    name = f"worker-{uuid.uuid4().hex[:12]}"
    command = [sys.executable, "-m", "studio", "worker", "--name", name, "--parent", str(os.getpid())]
    environment = {**os.environ, "DIACHRON_PROCESS": f"worker-{number}", "DIACHRON_DATA": str(settings.DATA)}
    return Worker(name, number, subprocess.Popen(command, env=environment, cwd=settings.BASE))


def _memory(pid: int) -> float:
    try:
        return float(psutil.Process(pid).memory_info().rss)
    except psutil.Error:
        return 0.0
