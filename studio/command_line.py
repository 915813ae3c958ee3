"""The command ``diachron``: the studio's own commands, and those of the core that need no studio."""

from __future__ import annotations

import os
import sys
from importlib.metadata import version

from core import cli

#: Commands of the studio: what they are called, and what Django calls them.
STUDIO = {
    "serve": (["serve"], "run the studio: a page in the browser, and what works behind it"),
    "demo": (["serve", "--demo", "--open"], "run the studio with the demo sessions"),
    "backup": (["backup"], "write everything into one file"),
    "archive": (["archive"], "write sessions as files of their own, or look whether such files are whole"),
    "open": (["open"], "open sessions that were archived"),
    "restore": (["restore"], "put what backup wrote into an empty folder"),
    "doctor": (["doctor"], "look whether all is as it should be, and mend what can be"),
    "worker": (["worker"], ""),
}


def main(argv: list[str] | None = None) -> int:
    """Entry point; returns the exit code."""
    args = sys.argv[1:] if argv is None else argv
    if not args or args[0] in ("-h", "--help"):
        print(_help())
        return 0
    if args[0] == "--version":
        print(f"diachron {version('diachron')}")
        return 0
    if args[0] in cli.COMMANDS:
        return cli.main(args)
    if args[0] not in STUDIO:
        print(f"diachron: There is no command “{args[0]}”.\n\n{_help()}", file=sys.stderr)
        return cli.BAD_INPUT
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "studio.settings")
    from django.core.management import execute_from_command_line

    execute_from_command_line(["diachron", *STUDIO[args[0]][0], *args[1:]])
    return 0


def _help() -> str:
    rows = [(name, words) for name, (_, _, words) in cli.COMMANDS.items()]
    rows += [(name, words) for name, (_, words) in STUDIO.items() if words]
    lines = [f"  {name:<10}{words}" for name, words in rows]
    return "\n".join(
        ["Tempo maps that follow a freely played performance.", "", "diachron COMMAND [--help]", "", *lines]
    )
