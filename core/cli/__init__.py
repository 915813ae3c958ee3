"""The command line: ``diachron map`` finds the beats of a performance, ``diachron conform`` gives it another map,
``diachron batch`` finds those of many, ``diachron tag`` writes them into the files' tags."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence

from core import audio
from core.analysis import AnalysisError
from core.cli import batching, conforming, mapping
from core.cli.common import BadInput
from core.formats import smf
from core.formats.beat_tables import MapFileError
from core.reshaping.warp import WarpError
from core.tracking import NoBeats

#: Bad input; what argparse uses for a wrong call.
BAD_INPUT = 2


def parser() -> argparse.ArgumentParser:
    top = argparse.ArgumentParser(prog="diachron", description="Tempo maps that follow a freely played performance.")
    commands = top.add_subparsers(dest="command", required=True)
    mapping.add_arguments(
        commands.add_parser("map", help="find beats and bars of one performance and write its tempo map")
    )
    conforming.add_arguments(
        commands.add_parser("conform", help="stretch a performance to a steady tempo, or to another map")
    )
    batching.add_batch(commands.add_parser("batch", help="find the beats of many performances, unattended"))
    batching.add_tag(commands.add_parser("tag", help="write tempo and first beat of a batch into the files' tags"))
    return top


def main(argv: Sequence[str] | None = None) -> int:
    """Entry point; returns the exit code."""
    args = parser().parse_args(argv)
    try:
        args.run(args)
    except (BadInput, AnalysisError, audio.AudioError, smf.MidiError, MapFileError, NoBeats, WarpError) as e:
        print(f"diachron: {e}", file=sys.stderr)
        return BAD_INPUT
    except OSError as e:
        print(f"diachron: {e.filename}: {e.strerror}", file=sys.stderr)
        return BAD_INPUT
    except KeyboardInterrupt:
        return 130
    return 0
