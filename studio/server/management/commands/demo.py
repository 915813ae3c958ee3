"""Make the demo sessions: render the made-up performances, upload and analyse them like any other."""

import json
import tempfile
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandParser

from core.demo import boathouse, kitchen, others
from core.demo.files import write_tracks
from core.demo.stage import Performance
from studio.desk.find_job import FIND
from studio.jobs.models import Job
from studio.jobs.queue import taken
from studio.jobs.working import work
from studio.library.models import Session
from studio.library.uploads import add_track
from studio.server.dressing import dress

#: What the demo consists of; the main one stands on top of the library.
PLAYS = (others.machine, others.rubato, boathouse.perform, kitchen.perform)
MAIN = boathouse.TITLE


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--dressed", action="store_true", help="sections, chords and a part for the main one, too")

    def handle(self, *, dressed: bool = False, **options: Any) -> None:
        """Each performance is made once, also where making them was broken off; no other session is touched."""
        note = settings.DATA / "demo-made"
        made = _made(note)
        if len(made) >= len(PLAYS):
            return
        for play in PLAYS:
            performance = play()
            if performance.title in made:
                continue
            self._tell(f"Playing “{performance.title}” and finding its beats ({len(made) + 1} of {len(PLAYS)}) ...")
            made[performance.title] = _session_of(performance)
            note.write_text(json.dumps(made))
            main = Session.objects.filter(pk=made[MAIN]).first() if performance.title == MAIN and dressed else None
            if main and main.step:
                self._tell("Naming its sections, finding its chords, adding a part ...")
                dress(main)
        main = Session.objects.filter(pk=made[MAIN]).first()
        if main:
            main.save(update_fields=["touched"])

    def _tell(self, words: str) -> None:
        self.stdout.write(words)
        self.stdout.flush()


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
