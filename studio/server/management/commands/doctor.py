"""Look whether all is as it should be: database, recordings, analyses, space. With --mend put right what can be."""

import shutil
from typing import Any

from django.conf import settings
from django.core.management.base import CommandError, CommandParser

from studio.commands import StudioCommand, require_sessions
from studio.server.data_folder import DATABASE, Unusable, backups, check_database
from studio.server.examination import examine

#: Bytes under which it is said that the disk is nearly full.
_SCARCE = 2 * 2**30


class Command(StudioCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--mend", action="store_true", help="make again what can be; remove what is in the way")
        parser.add_argument("--quick", action="store_true", help="do not read the recordings through")

    def handle(self, *, mend: bool, quick: bool, **options: Any) -> None:
        try:
            check_database(settings.DATA / DATABASE)
        except Unusable as e:
            raise CommandError(str(e)) from None
        require_sessions()
        self.stdout.write("The database is whole.")
        free = shutil.disk_usage(settings.DATA).free
        scarce = ": that is little" if free < _SCARCE else ""
        self.stdout.write(f"{free / 1e9:.1f} GB are free{scarce}.")
        self.stdout.write(f"Copies of the database: {len(backups(settings.DATA))}.")
        left = mended = 0
        for finding in examine(settings.SESSIONS_FOLDER, not quick):
            if mend and finding.can_mend:
                finding.mend()
                mended += 1
            else:
                left += 1
            self.stdout.write(f"- {finding.words}{' Mended.' if mend and finding.can_mend else ''}")
        if not left + mended:
            self.stdout.write("All files are as they should be.")
        elif left:
            more = "" if mend else "; some may be put right with --mend"
            raise CommandError(f"{left} thing{'s need' if left != 1 else ' needs'} a hand{more}.")
