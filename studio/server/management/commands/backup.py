"""Write everything into one file: all sessions with their recordings, maps and histories. The server may go on."""

from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import CommandError, CommandParser
from django.db import connection
from django.utils import timezone

from studio.commands import StudioCommand
from studio.server import archive
from studio.server.data_folder import DATABASE


class Command(StudioCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("to", nargs="?", help="the file; by default diachron-DATE.zip in this folder")

    def handle(self, *, to: str | None, **options: Any) -> None:
        target = Path(to or f"diachron-{timezone.localtime():%Y%m%d-%H%M%S}.zip")
        if connection.vendor != "sqlite":
            raise CommandError("The database is PostgreSQL: pg_dump backs it up; archive --all writes every session.")
        if not (settings.DATA / DATABASE).exists():
            raise CommandError(f"There is nothing to back up in {settings.DATA}.")
        try:
            count = archive.write(settings.DATA, target)
        except OSError as e:
            raise CommandError(f"{target} cannot be written: {e.strerror}.") from None
        self.stdout.write(
            f"{target}: the database and {count} recording{'s' * (count != 1)}, {target.stat().st_size / 1e6:.0f} MB."
        )
