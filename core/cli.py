"""The command line: ``diachron map FILE...`` finds the beats and writes the map, with the same core as the page."""

from __future__ import annotations

import argparse
import json
import sys
import tempfile
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import platformdirs
import soundfile as sf

from core.beats import NoBeats, Player, Wishes, solve
from core.following import click
from core.formats import smf, tables
from core.listening import audio, kept, performance
from core.listening.track import Heard, listen
from core.tempomap import Meter

#: Bad input; what argparse uses for a wrong call.
BAD_INPUT = 2
SHORTEST = 4.0


class BadInput(ValueError):
    """What the engineer gave cannot be used, in their words."""


def guide(text: str) -> tuple[str, float]:
    name, _, weight = text.rpartition("=")
    try:
        return name or text, float(weight) if name else 1.0
    except ValueError:
        raise argparse.ArgumentTypeError(f"“{text}”: write a guide as NAME=WEIGHT, e.g. kick=2") from None


def tempo_range(text: str) -> tuple[float, float]:
    low, _, high = text.partition("-")
    try:
        pair = float(low), float(high)
    except ValueError:
        raise argparse.ArgumentTypeError(f"“{text}”: write a tempo range as LOW-HIGH, e.g. 70-180") from None
    if not 10 <= pair[0] < pair[1] <= 400:
        raise argparse.ArgumentTypeError(f"“{text}”: a tempo range rises and lies within 10 to 400")
    return pair


def meter(text: str) -> Meter:
    try:
        return Meter.parse(text)
    except ValueError as e:
        raise argparse.ArgumentTypeError(str(e)) from None


def parser() -> argparse.ArgumentParser:
    top = argparse.ArgumentParser(prog="diachron", description="Tempo maps that follow a freely played performance.")
    commands = top.add_subparsers(dest="command", required=True)
    m = commands.add_parser("map", help="find beats and bars of one performance and write its tempo map")
    m.add_argument(
        "files",
        nargs="+",
        type=Path,
        metavar="FILE",
        help=f"tracks that start together: {audio.FORMATS}, or MIDI",
    )
    m.add_argument(
        "--guide",
        action="append",
        type=guide,
        default=[],
        metavar="NAME=WEIGHT",
        help="trust this track (file name with or without ending)",
    )
    m.add_argument(
        "--tempo",
        type=tempo_range,
        default=Wishes().tempo,
        metavar="LOW-HIGH",
        help="felt beats a minute (default {:.0f}-{:.0f})".format(*Wishes().tempo),
    )
    m.add_argument("--meter", type=meter, help="like 4/4, 6/8 or 2+2+3/8 (default: found)")
    m.add_argument("--json", type=Path, metavar="OUT", help="write beats, bars and tempo as JSON")
    m.add_argument("--midi", type=Path, metavar="OUT", help="write the map as a Standard MIDI File")
    m.add_argument("--click", type=Path, metavar="OUT", help="write the click as WAV")
    m.add_argument("--start", type=float, metavar="SECONDS", help="where the mapped music starts")
    m.add_argument("--end", type=float, metavar="SECONDS", help="where it ends")
    m.add_argument("--pin", action="append", type=float, default=[], metavar="SECONDS", help="this has to be a beat")
    m.add_argument("--no-cache", action="store_true", help="listen to the files anew and keep nothing of them")
    pace = m.add_mutually_exclusive_group()
    pace.add_argument("--steady", action="store_true", help="a machine plays: one exact tempo")
    pace.add_argument("--free", action="store_true", help="people play: never one exact tempo")
    return top


class Teller:
    """Progress on one line of a terminal; silent where nobody watches."""

    def __init__(self) -> None:
        self.live = sys.stderr.isatty()

    def __call__(self, stage: str, share: float) -> None:
        if self.live:
            print(f"\r\x1b[K{stage} {share:4.0%}", end="", file=sys.stderr, flush=True)

    def end(self) -> None:
        if self.live:
            print("\r\x1b[K", end="", file=sys.stderr, flush=True)


#: Bytes that may be kept of what was heard of earlier files.
CACHE_SIZE = 2 << 30


def hear(files: Sequence[Path], tell: Teller, cache: Path | None = None) -> tuple[list[Heard], int]:
    """Listen to every file, two at a time; the rate of the first audio file is the click's rate. What is heard is kept
    in the folder ``cache`` by what the file holds, and not listened for again."""
    rate = 48_000
    infos: dict[Path, audio.AudioInfo] = {}
    for path in files:
        if not path.exists():
            raise BadInput(f"“{path}” does not exist.")
        if not performance.is_midi(path.name):
            infos[path] = audio.inspect(path)
    if infos:
        rate = next(iter(infos.values())).rate

    def one(path: Path) -> Heard:
        if cache is None:
            return listened(path)
        place = cache / f"{kept.digest(path)}{path.suffix.lower()}.npz"
        if before := kept.read(place):
            return Heard(path.name, before.seconds, before.evidence, before.attacks, {}, list(before.remarks))
        heard = listened(path)
        kept.write(place, kept.Kept(heard.evidence, heard.attacks, heard.seconds, tuple(heard.remarks)))
        return heard

    def listened(path: Path) -> Heard:
        if not performance.is_midi(path.name):
            return listen(path, path.name, infos[path])
        with tempfile.TemporaryDirectory() as folder:
            rendered = Path(folder) / "rendered.flac"
            performance.render(path, path.name, rendered)
            return performance.listen_to_midi(path, path.name, rendered)

    heard = []
    with ThreadPoolExecutor(2) as pool:
        for done, result in enumerate(pool.map(one, files), 1):
            tell("Listening", done / len(files))
            heard.append(result)
    return heard, rate


def make_map(args: argparse.Namespace) -> None:
    tell = Teller()
    cache = None if args.no_cache else Path(platformdirs.user_cache_dir("diachron"))
    if cache:
        cache.mkdir(parents=True, exist_ok=True)
        kept.prune(cache, CACHE_SIZE)
    heard, rate = hear(args.files, tell, cache)
    duration = max(h.seconds for h in heard)
    if duration < SHORTEST:
        raise BadInput(f"The take lasts {duration:.1f} s; finding beats needs at least {SHORTEST:.0f} s.")
    names = {h.name: h.name for h in heard} | {Path(h.name).stem: h.name for h in heard}
    unknown = [name for name, _ in args.guide if name not in names]
    if unknown:
        raise BadInput(f"There is no track “{unknown[0]}”; the tracks are {', '.join(h.name for h in heard)}.")
    if args.start is not None and args.end is not None and args.end - args.start < SHORTEST:
        raise BadInput(f"Between start and end must lie at least {SHORTEST:.0f} s.")
    outside = [pin for pin in args.pin if not 0 <= pin <= duration]
    if outside:
        raise BadInput(f"The pin at {outside[0]:g} s lies outside the take.")
    wishes = Wishes(
        args.tempo,
        args.meter,
        {names[name]: weight for name, weight in args.guide},
        args.start,
        args.end,
        args.pin,
        True if args.steady else False if args.free else None,
    )
    for h in heard:
        for remark in h.remarks:
            print(f"{h.name}: {remark}", file=sys.stderr)
    players = [Player(h.name, h.evidence, h.attacks) for h in heard]
    solution = solve(players, wishes, tell)
    tell.end()
    tempo_map = solution.map
    if args.json:
        data = tables.map_json(tempo_map, duration, solution)
        args.json.write_text(json.dumps(data, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    if args.midi:
        smf.write(tempo_map, args.files[0].stem).file.save(args.midi)
    if args.click:
        track = click.render(click.clicks(tempo_map, rate, duration), rate, round(duration * rate))
        sf.write(args.click, track, rate, "PCM_24", format="WAV")
    beats = tempo_map.beats()
    first, last = tempo_map.bar_range
    average = 60 * (len(beats) - 1) / (beats.seconds[-1] - beats.seconds[0])
    print(
        f"{len(beats)} beats, bars {first} to {last}, {tempo_map.meters.meter_at(1)}, "
        f"{average:.3f} beats a minute on average, bar 1 at {float(tempo_map.bar_seconds(1)):.3f} s, "
        f"{len(solution.doubts)} doubts"
    )


def main(argv: Sequence[str] | None = None) -> int:
    """Entry point; returns the exit code."""
    args = parser().parse_args(argv)
    try:
        make_map(args)
    except (BadInput, audio.AudioError, smf.MidiError, NoBeats) as e:
        print(f"diachron: {e}", file=sys.stderr)
        return BAD_INPUT
    except OSError as e:
        print(f"diachron: {e.filename}: {e.strerror}", file=sys.stderr)
        return BAD_INPUT
    except KeyboardInterrupt:
        return 130
    return 0


if __name__ == "__main__":
    sys.exit(main())
