"""Does the jobs that wait, one after another. The server starts its workers itself."""

import os
import signal
import threading
import time
from typing import Any

from django.core.management.base import BaseCommand, CommandParser
from django.db import OperationalError, connection

from studio.jobs import queue
from studio.jobs.working import work

#: Seconds between two looks for work.
_EVERY = 0.25


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--name", default=f"worker-{os.getpid()}", help="under which it takes jobs")
        parser.add_argument("--parent", type=int, help="the process with which it ends")

    def handle(self, *, name: str, parent: int | None, **options: Any) -> None:
        os.umask(0o077)  # as the server's files are
        signal.signal(signal.SIGTERM, lambda *_: os._exit(0))  # what it was at is given back
        if parent:
            threading.Thread(target=_leave_with, args=(parent,), daemon=True).start()
        while True:
            try:
                job = queue.take(name)
            except OperationalError:  # the database was busy for long: a moment later
                connection.close()
                job = None
            if job:
                work(job)
            else:
                time.sleep(_EVERY)


def _leave_with(parent: int) -> None:
    """A worker whose server was killed must not live on: it would work beside the next server's worker."""
    while os.getppid() == parent:
        time.sleep(0.5)
    os._exit(1)
