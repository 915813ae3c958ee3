"""Open archived sessions: each becomes a session as it was. Its tracks are analysed when the server runs."""

from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from studio.archives import reading
from studio.archives.jobs import listen_to_all
from studio.library.models import Session


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("files", nargs="+", type=Path)

    def handle(self, *, files: list[Path], **options: Any) -> None:
        for path in files:
            session = Session.objects.create(title=path.stem[:1000])
            try:
                reading.read(path, session)
            except reading.NoArchive as e:
                session.erase()
                raise CommandError(str(e)) from None
            session.refresh_from_db()
            listen_to_all(session)
            self.stdout.write(f"“{session.title}” is open, with {session.tracks.count()} tracks.")
