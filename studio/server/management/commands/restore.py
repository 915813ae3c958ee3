"""Put what `backup` wrote into an empty data folder. What can be made again is analysed when the server starts."""

import os
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import CommandError, CommandParser

from studio.commands import StudioCommand
from studio.library.models import Track
from studio.server import archive
from studio.server.data_folder import DATABASE, Unusable, check_database


class Command(StudioCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("file", help="the archive")

    def handle(self, *, file: str, **options: Any) -> None:
        os.umask(0o077)  # as the server's files are
        try:
            count = archive.read(Path(file), settings.DATA)
            check_database(settings.DATA / DATABASE)
        except Unusable as e:
            raise CommandError(str(e)) from None
        call_command("migrate", verbosity=0)
        Track.everything.update(features_version=0)  # analysed again, as the archive holds no analyses
        self.stdout.write(
            f"{count} recording{'s' * (count != 1)} and everything else that was backed up lie in {settings.DATA}."
        )
