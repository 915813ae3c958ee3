"""The base class of the studio's commands: help without Django's own options, and a check that there are sessions."""

from __future__ import annotations

import sys
from importlib.metadata import version
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError

from studio import database


def require_sessions() -> None:
    """Raises :class:`CommandError` if there is no database, or if an earlier version wrote it."""
    if not database.is_there():
        raise CommandError(f"There are no sessions in {settings.DATA}. Name another folder in DIACHRON_DATA.")
    if database.is_behind():
        raise CommandError(
            f"The sessions in {settings.DATA} were written by an earlier version of Diachron. Start it once to "
            "update them: diachron serve."
        )


class StudioCommand(BaseCommand):
    """A command of ``diachron``. Django's own options work but are left out of the help."""

    suppressed_base_arguments = {
        "--version",
        "--verbosity",
        "--settings",
        "--pythonpath",
        "--traceback",
        "--no-color",
        "--force-color",
        "--skip-checks",
    }

    def get_version(self) -> str:
        """Of Diachron."""
        return version("diachron")

    def execute(self, *args: Any, **options: Any) -> str | None:
        """As Django does, but errors are printed as the core's commands print them."""
        try:
            return super().execute(*args, **options)
        except CommandError as e:
            if not getattr(self, "_called_from_command_line", False) or options.get("traceback"):
                raise
            self.stderr.write(f"diachron: {e}")
            sys.exit(e.returncode)
