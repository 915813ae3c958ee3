"""``diachron batch FOLDER...`` analyses many performances unattended; ``diachron tag OUT`` writes what it found into
the files' own tags."""

from __future__ import annotations

import argparse
import json
import sys
from contextlib import nullcontext
from pathlib import Path

from core.batch import report, rules, running, tags, takes
from core.batch.outputs import WRITERS
from core.batch.work import Outcome, place_of
from core.cli.common import BadInput

_WORKERS = 2


def add_batch(m: argparse.ArgumentParser) -> None:
    """The arguments of ``diachron batch``."""
    m.add_argument(
        "folders", nargs="+", type=Path, metavar="FOLDER", help="each folder with audio in it is a performance"
    )
    m.add_argument("-o", "--out", type=Path, required=True, metavar="OUT", help="where maps and the report are written")
    m.add_argument("--rules", type=Path, metavar="TOML", help="tempo range, meter, kind and guides by pattern of name")
    m.add_argument(
        "--write",
        metavar="KINDS",
        help=f"what is written of each, parted by commas: {', '.join(WRITERS)} (default: json,midi,csv)",
    )
    m.add_argument("--workers", type=int, default=_WORKERS, metavar="N", help=f"processes (default {_WORKERS})")
    m.add_argument("--cluster", metavar="ADDRESS", help="a Dask cluster, like tcp://host:8786 (needs “distributed”)")
    m.add_argument(
        "--send-files",
        action="store_true",
        help="send the files to the cluster by content, where its machines do not see the same folders",
    )
    m.set_defaults(run=batch)


def add_tag(m: argparse.ArgumentParser) -> None:
    """The arguments of ``diachron tag``."""
    m.add_argument("out", type=Path, metavar="OUT", help="what “diachron batch” wrote")
    m.add_argument("--write", action="store_true", help="write the tags; without it they are only told")
    m.add_argument("--replace", action="store_true", help="also where a file has a tempo already")
    m.set_defaults(run=tag)


def _rules(args: argparse.Namespace) -> rules.Rules:
    known = list(WRITERS)
    try:
        found = rules.read(args.rules, known) if args.rules else rules.Rules()
    except rules.RulesError as e:
        raise BadInput(str(e)) from None
    if not args.write:
        return found
    wanted = [w.strip() for w in args.write.split(",") if w.strip()]
    wrong = [w for w in wanted if w not in known]
    if wrong:
        raise BadInput(f"“{wrong[0]}” cannot be written; write some of {', '.join(known)}.")
    return rules.Rules(found.rules, tuple(wanted))


def batch(args: argparse.Namespace) -> None:
    """Analyse all performances that were not analysed yet, and write the report."""
    for folder in args.folders:
        if not folder.exists():
            raise BadInput(f"“{folder}” does not exist.")
    if not 1 <= args.workers <= 256:
        raise BadInput("Between 1 and 256 workers can be used.")
    wanted = _rules(args)
    found = takes.find([f.resolve() for f in args.folders], wanted)
    if not found:
        raise BadInput("There is no audio or MIDI file in there.")
    if beside := [take for take in found if _beside_its_files(take, args.out.resolve())]:
        raise BadInput(
            f"The results of “{beside[0].name}” would be written into the folder of its recordings: choose another OUT."
        )
    args.out.mkdir(parents=True, exist_ok=True)
    out = args.out.resolve()
    local = nullcontext((running.pool(args.workers), args.workers))
    try:
        with running.cluster(args.cluster) if args.cluster else local as (make, workers):
            outcomes = running.run(found, wanted.write, out, make, workers, _told, args.send_files)
    except ImportError:
        raise BadInput("A cluster needs the package “distributed”: pip install distributed.") from None
    except running.NoCluster as e:
        raise BadInput(f"There is no cluster at “{args.cluster}”: {e}.") from None
    page = report.write(outcomes, out)
    print(f"{report.summary(outcomes)}. What needs an ear: {page}")


def _beside_its_files(take: takes.Take, out: Path) -> bool:
    """Whether results would lie beside the take's recordings, where the next batch would read them as recordings."""
    return out / place_of(take.name) in {file.parent for file in take.files}


def _told(done: int, total: int, left: float | None, outcome: Outcome) -> None:
    doubts = f"{outcome.doubts} doubt{'s' * (outcome.doubts != 1)}"
    words = outcome.error or f"{outcome.bpm:.1f}, {outcome.meter}, {doubts}"
    more = f", {_minutes(left)} left" if left and done < total else ""
    print(f"{done} of {total}{more}: {outcome.name}: {words}", file=sys.stderr, flush=True)


def _minutes(seconds: float) -> str:
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"


def tag(args: argparse.Namespace) -> None:
    """Tell, or write, tempo and first beat into the tags of all files of a batch."""
    try:
        rows = json.loads((args.out / "report.json").read_text(encoding="utf-8"))
        outcomes = [Outcome(**{k: v for k, v in row.items() if k != "sure"}) for row in rows]
    except (OSError, ValueError, TypeError):
        raise BadInput(f"In “{args.out}” is no report of a batch.") from None
    plans = list(tags.plan(outcomes))
    if args.write:
        for line in tags.write(plans, args.replace):
            print(line)
        return
    for p in plans:
        print(p.words(args.replace))
    count = sum(p.writes(args.replace) for p in plans)
    print(f"Nothing was written. With --write {count} of {len(plans)} files get these tags.")
