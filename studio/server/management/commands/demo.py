"""Make the demo sessions: render the made-up performances, upload and analyse them like any other."""

import tempfile
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand

from core.demo import boathouse, others
from core.demo.files import write_tracks
from studio.desk.find_job import FIND
from studio.jobs import tasks
from studio.jobs.models import Job
from studio.library.models import Session
from studio.library.uploads import add_track


class Command(BaseCommand):
    help = __doc__

    def handle(self, **options: Any) -> None:
        made = settings.DATA / "demo-made"
        if made.exists():
            return
        # the main one last: the newest stands on top of the library
        for play in (others.machine, others.rubato, boathouse.perform):
            performance = play()
            self.stdout.write(f"Playing the demo “{performance.title}” ...")
            self.stdout.flush()
            Session.objects.filter(title=performance.title).delete()
            session = Session.objects.create(title=performance.title)
            session.folder.mkdir(parents=True, exist_ok=True)
            with tempfile.TemporaryDirectory(dir=session.folder) as folder:
                for path in write_tracks(performance, Path(folder)):
                    add_track(session, path, path.name)
            job = Job.objects.create(session=session, kind=FIND)
            tasks.run.func(job.pk)
        made.write_text("delete this file to make the demo sessions again\n")
