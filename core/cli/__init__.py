"""The command line: ``diachron map`` finds the beats of a performance, ``diachron conform`` gives it another map,
``diachron batch`` finds those of many, ``diachron tag`` writes them into the files' tags.

Only the module of the command that is called is imported, as each brings libraries of its own.
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from importlib import import_module

from core.errors import InputError

#: Bad input; what argparse uses for a wrong call.
BAD_INPUT = 2
#: Commands: the module and the function that adds their arguments, and what they are for.
COMMANDS = {
    "map": ("mapping", "add_arguments", "find beats and bars of one performance and write its tempo map"),
    "conform": ("conforming", "add_arguments", "stretch a performance to a steady tempo, or to another map"),
    "batch": ("batching", "add_batch", "find the beats of many performances, unattended"),
    "tag": ("batching", "add_tag", "write tempo and first beat of a batch into the files' tags"),
}


def parser(called: str | None = None) -> argparse.ArgumentParser:
    """The parser of all commands, with the arguments of the one that is ``called``."""
    top = argparse.ArgumentParser(prog="diachron", description="Tempo maps that follow a freely played performance.")
    commands = top.add_subparsers(dest="command", required=True)
    for name, (module, add, words) in COMMANDS.items():
        command = commands.add_parser(name, help=words)
        if name == called:
            getattr(import_module(f"core.cli.{module}"), add)(command)
    return top


def main(argv: Sequence[str] | None = None) -> int:
    """Entry point; returns the exit code."""
    given = sys.argv[1:] if argv is None else list(argv)
    args = parser(given[0] if given else None).parse_args(given)
    try:
        args.run(args)
    except InputError as e:
        print(f"diachron: {e}", file=sys.stderr)
        return BAD_INPUT
    except OSError as e:
        print(f"diachron: {e.filename}: {e.strerror}" if e.filename else f"diachron: {e}", file=sys.stderr)
        return BAD_INPUT
    except KeyboardInterrupt:
        return 130
    return 0
