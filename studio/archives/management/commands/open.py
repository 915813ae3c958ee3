"""Open archived sessions: each becomes a session as it was. Its tracks are analysed when the server runs."""

import os
from pathlib import Path
from typing import Any

from django.core.management import call_command
from django.core.management.base import CommandError, CommandParser

from studio import database
from studio.archives import reading
from studio.archives.jobs import listen_to_all
from studio.commands import StudioCommand, require_sessions
from studio.library.models import Session


class Command(StudioCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("files", nargs="+", type=Path)

    def handle(self, *, files: list[Path], **options: Any) -> None:
        os.umask(0o077)  # as the server's files are
        if not database.is_there():  # another machine than the one that archived
            call_command("migrate", verbosity=0)
        require_sessions()
        for path in files:
            session = Session.objects.create(title=path.stem[:1000])
            try:
                reading.read(path, session)
            except reading.NoArchive as e:
                session.erase()
                raise CommandError(str(e)) from None
            session.refresh_from_db()
            listen_to_all(session)
            tracks = session.tracks.count()
            self.stdout.write(f"“{session.title}” is open, with {tracks} track{'s' * (tracks != 1)}.")
