"""``diachron map FILE...`` finds the beats and writes the map, with the same core as the page."""

from __future__ import annotations

import argparse
import json
import math
import sys
from collections.abc import Sequence
from pathlib import Path

import soundfile as sf

from core import audio
from core.analysis import Source, midi_tracks
from core.analysis.pipeline import SHORTEST, analyse_sources, find_map
from core.cli.common import BadInput, ProgressLine, cache, check_files, check_outputs, seconds
from core.errors import InputError
from core.following import click
from core.formats import smf, tables
from core.tempomap import Meter
from core.tempomap.limits import checked_range
from core.tracking import TrackingOptions


def guide(text: str) -> tuple[str, float]:
    name, _, number = text.rpartition("=")
    try:
        weight = float(number) if name else 1.0
    except ValueError:
        weight = -1.0
    if not 0 <= weight < math.inf:
        raise argparse.ArgumentTypeError(f"“{text}”: write a guide as NAME=WEIGHT, e.g. kick=2")
    return name or text, weight


def tempo_range(text: str) -> tuple[float, float]:
    low, _, high = text.partition("-")
    try:
        pair = float(low), float(high)
    except ValueError:
        raise argparse.ArgumentTypeError(f"“{text}”: write a tempo range as LOW-HIGH, e.g. 70-180") from None
    try:
        return checked_range(*pair)
    except InputError as e:
        raise argparse.ArgumentTypeError(str(e)) from None


def meter(text: str) -> Meter:
    try:
        return Meter.parse(text)
    except InputError as e:
        raise argparse.ArgumentTypeError(str(e)) from None


def add_arguments(m: argparse.ArgumentParser) -> None:
    """The arguments of ``diachron map``."""
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
        default=TrackingOptions().tempo,
        metavar="LOW-HIGH",
        help="felt beats a minute (default {:.0f}-{:.0f})".format(*TrackingOptions().tempo),
    )
    m.add_argument("--meter", type=meter, help="like 4/4, 6/8 or 2+2+3/8 (default: found)")
    m.add_argument("--json", type=Path, metavar="OUT", help="write beats, bars and tempo as JSON")
    m.add_argument("--midi", type=Path, metavar="OUT", help="write the map as a Standard MIDI File")
    m.add_argument("--click", type=Path, metavar="OUT", help="write the click as WAV")
    m.add_argument("--start", type=seconds, metavar="SECONDS", help="where the mapped music starts")
    m.add_argument("--end", type=seconds, metavar="SECONDS", help="where it ends")
    m.add_argument("--pin", action="append", type=seconds, default=[], metavar="SECONDS", help="this has to be a beat")
    m.add_argument("--no-cache", action="store_true", help="analyse the files again and keep nothing of them")
    pace = m.add_mutually_exclusive_group()
    pace.add_argument("--steady", action="store_true", help="a machine plays: one exact tempo")
    pace.add_argument("--free", action="store_true", help="people play: never one exact tempo")
    m.set_defaults(run=make_map)


def click_rate(files: Sequence[Path]) -> int:
    """The rate of the first audio file: that of the click. Raises :class:`BadInput` and
    :class:`core.audio.AudioError`, so that files are checked before any is analysed."""
    check_files(files)
    rates = [audio.inspect(path).rate for path in files if not midi_tracks.is_midi(path.name)]
    return rates[0] if rates else midi_tracks.RENDER_RATE


def tracking_options(args: argparse.Namespace, names: Sequence[str]) -> TrackingOptions:
    """What was said on the command line. ``names``: of the tracks. Raises :class:`BadInput`."""
    by_name = {n: n for n in names} | {Path(n).stem: n for n in names}
    unknown = [name for name, _ in args.guide if name not in by_name]
    if unknown:
        raise BadInput(f"There is no track “{unknown[0]}”; the tracks are {', '.join(names)}.")
    if args.start is not None and args.end is not None and args.end - args.start < SHORTEST:
        raise BadInput(f"Between start and end must lie at least {SHORTEST:.0f} s.")
    guides = {by_name[name]: weight for name, weight in args.guide}
    exact = True if args.steady else False if args.free else None
    return TrackingOptions(args.tempo, args.meter, guides, args.start, args.end, args.pin, exact)


def make_map(args: argparse.Namespace) -> None:
    """Find the map and write what was asked for."""
    progress = ProgressLine()
    rate = click_rate(args.files)
    sources = [Source(path, path.name) for path in args.files]
    options = tracking_options(args, [s.name for s in sources])
    check_outputs([out for out in (args.json, args.midi, args.click) if out], args.files)
    store = cache(args.no_cache)
    tracks = list(analyse_sources(sources, store, progress, threads=2))
    duration = max(t.seconds for t in tracks)
    outside = [pin for pin in args.pin if not 0 <= pin <= duration]
    if outside:
        raise BadInput(f"The pin at {outside[0]:.3f} s lies outside the take.")
    result = find_map(tracks, options, progress)
    progress.end()
    for t in tracks:
        for remark in t.remarks:
            print(f"{t.name}: {remark}", file=sys.stderr)
    tempo_map = result.map
    if args.json:
        data = tables.map_json(tempo_map, duration, result)
        args.json.write_text(json.dumps(data, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    if args.midi:
        smf.write(tempo_map, args.files[0].stem).file.save(args.midi)
    if args.click:
        track = click.render(click.clicks(tempo_map, rate, duration), rate, round(duration * rate))
        sf.write(args.click, track, rate, "PCM_24", format="WAV")
    beats = tempo_map.beats()
    first, last = tempo_map.bar_range
    doubts = len(result.doubts)
    print(
        f"{len(beats)} beats, bars {first} to {last}, {tempo_map.meters.meter_at(1)}, "
        f"{tempo_map.average_bpm:.3f} beats a minute on average, bar 1 at {float(tempo_map.bar_seconds(1)):.3f} s, "
        f"{doubts} doubt{'s' * (doubts != 1)}"
    )
