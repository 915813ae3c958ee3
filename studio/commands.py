"""What the studio's commands have in common: help without Django's own options, and sessions to work on."""

from __future__ import annotations

import sys
from importlib.metadata import version
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError

from studio import database


def require_sessions() -> None:
    """Raises :class:`CommandError` where no studio was ever served, or one of an earlier version."""
    if not database.is_there():
        raise CommandError(f"There are no sessions in {settings.DATA}. Name another folder in DIACHRON_DATA.")
    if database.is_behind():
        raise CommandError(
            f"The sessions in {settings.DATA} were kept by an earlier version of Diachron. Serve them once, which "
            "brings them up to this one: diachron serve."
        )


class StudioCommand(BaseCommand):
    """A command of ``diachron``. Django's own options can be used, but are for its developers."""

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
        """As Django does, but what cannot be done is told as all commands tell it."""
        try:
            return super().execute(*args, **options)
        except CommandError as e:
            if not getattr(self, "_called_from_command_line", False) or options.get("traceback"):
                raise
            self.stderr.write(f"diachron: {e}")
            sys.exit(e.returncode)
