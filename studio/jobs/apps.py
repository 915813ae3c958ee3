import os
import sys
import threading
import time

from django.apps import AppConfig


class JobsConfig(AppConfig):
    name = "studio.jobs"

    def ready(self) -> None:
        """A worker whose server was killed must not live on: it would work beside the next server's worker."""
        parent = os.environ.get("DIACHRON_PARENT")
        if parent and "db_worker" in sys.argv:
            threading.Thread(target=_leave_with, args=(int(parent),), daemon=True).start()


def _leave_with(parent: int) -> None:
    while os.getppid() == parent:
        time.sleep(0.5)
    os._exit(1)
