"""Make the demo sessions: render the made-up performances, upload and analyse them like any other."""

import json
import tempfile
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand

from core.demo import boathouse, kitchen, others
from core.demo.files import write_tracks
from core.demo.stage import Performance
from studio.desk.find_job import FIND
from studio.jobs.models import Job
from studio.jobs.queue import taken
from studio.jobs.working import work
from studio.library.models import Session
from studio.library.uploads import add_track

#: What the demo consists of; the main one stands on top of the library.
PLAYS = (others.machine, others.rubato, boathouse.perform, kitchen.perform)
MAIN = boathouse.TITLE


class Command(BaseCommand):
    help = __doc__

    def handle(self, **options: Any) -> None:
        """Each performance is made once, also where making them was broken off; no other session is touched."""
        note = settings.DATA / "demo-made"
        made = _made(note)
        if len(made) >= len(PLAYS):
            return
        for play in PLAYS:
            performance = play()
            if performance.title in made:
                continue
            self.stdout.write(f"Playing the demo “{performance.title}” ...")
            self.stdout.flush()
            made[performance.title] = _session_of(performance)
            note.write_text(json.dumps(made))
        main = Session.objects.filter(pk=made[MAIN]).first()
        if main:
            main.save(update_fields=["touched"])


def _made(note: Path) -> dict[str, int]:
    """Keys of the demo sessions that were made here, by title. Notes of earlier versions name none: all were made."""
    if not note.exists():
        return {}
    try:
        made: dict[str, int] = json.loads(note.read_text())
    except ValueError:
        return {play().title: 0 for play in PLAYS}
    return made


def _session_of(performance: Performance) -> int:
    session = Session.objects.create(title=performance.title)
    session.folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=session.folder) as folder:
        for path in write_tracks(performance, Path(folder)):
            add_track(session, path, path.name)
    job = Job.objects.create(session=session, kind=FIND)
    if mine := taken(job, "demo"):
        work(mine)
    return session.pk
