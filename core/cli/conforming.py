"""``diachron conform FILE...`` stretches all tracks of a performance, in phase, to a steady tempo or another map."""

from __future__ import annotations

import argparse
import shutil
from pathlib import Path

from core import audio
from core.analysis import Source, midi_tracks
from core.analysis.pipeline import analyse_sources, find_map
from core.cli.common import BadInput, ProgressLine, cache, check_files
from core.errors import InputError
from core.formats import smf
from core.formats.map_files import read_any_map
from core.listening.track import AnalysedTrack
from core.reshaping.choice import attacks_to_keep, suggest_engine
from core.reshaping.conform import Conformed, steady, steady_bpm, to_map, with_freedom
from core.reshaping.cost import GENTLE, cost
from core.reshaping.engines import ENGINES, EngineName
from core.reshaping.groups import suggest_groups
from core.reshaping.writing import GroupToWrite, TrackToWrite, longest, needed_bytes, write_groups
from core.tempomap import TempoMap
from core.tempomap.limits import checked_tempo

#: Finding the map and making the sound, as shares of progress.
_FINDING = 0.3


def tempo(text: str) -> float:
    try:
        return checked_tempo(float(text))
    except InputError as e:
        raise argparse.ArgumentTypeError(str(e)) from None
    except ValueError:
        raise argparse.ArgumentTypeError(f"“{text}” is no tempo.") from None


def percent(text: str) -> float:
    try:
        value = float(text.rstrip("%")) / 100
    except ValueError:
        value = -1
    if not 0 <= value <= 1:
        raise argparse.ArgumentTypeError(f"“{text}”: write a share from 0% (steady) to 100% (as played)")
    return value


def add_arguments(c: argparse.ArgumentParser) -> None:
    """The arguments of ``diachron conform``."""
    c.add_argument("files", nargs="+", type=Path, metavar="FILE", help=f"tracks that start together: {audio.FORMATS}")
    where = c.add_mutually_exclusive_group()
    where.add_argument("--to", type=tempo, metavar="BPM", help="felt beats a minute (default: the take's own average)")
    where.add_argument(
        "--keep", type=percent, metavar="SHARE", help="of the freedom, like 30%%: 0%% steady, 100%% as played"
    )
    where.add_argument("--map", type=Path, metavar="FILE", help="bar by bar to another map: MIDI, CSV, JAMS")
    c.add_argument(
        "--bars-later", type=int, default=0, metavar="N", help="with --map: bar 1 goes to the map's bar 1 + N"
    )
    c.add_argument("--from-map", type=Path, metavar="FILE", help="the performance's own map, instead of finding it")
    c.add_argument(
        "--engine", choices=["auto", *ENGINES], default="auto", help="how samples are made (default: by track)"
    )
    c.add_argument("--float", action="store_true", help="write floating point instead of 24 bits")
    c.add_argument("--no-cache", action="store_true", help="analyse the files again and keep nothing of them")
    c.add_argument("-o", "--out", type=Path, required=True, metavar="FOLDER", help="where the new tracks and maps go")
    c.set_defaults(run=conform_files)


def conform_files(args: argparse.Namespace) -> None:
    """Find the map, stretch the tracks, write them with both maps, and say what it costs."""
    check_files(args.files)
    for path in args.files:
        if midi_tracks.is_midi(path.name):
            raise BadInput(f"“{path.name}” is MIDI: give it the new map in a program that plays MIDI.")
        if path.resolve().parent == args.out.resolve():
            raise BadInput("The new tracks need a folder of their own: recordings are never written over.")
    names = [p.stem for p in args.files]
    if len(set(names)) < len(names):
        raise BadInput("Two of the files have the same name; the new ones would take each other's place.")
    if args.bars_later and not args.map:
        raise BadInput("--bars-later says where the bars of another map begin: it needs --map.")
    if args.out.exists() and not args.out.is_dir():
        raise BadInput(f"“{args.out}” is a file; the new tracks need a folder.")
    # maps are read before the analysis, so that a bad file is reported at once
    own, other = (read_any_map(path) if path else None for path in (args.from_map, args.map))
    progress = ProgressLine()
    sources = [Source(p, p.name) for p in args.files]
    tracks = list(analyse_sources(sources, cache(args.no_cache), lambda s, x: progress(s, _FINDING * x), threads=2))
    tempo_map = own or find_map(tracks).map
    made = _target(args, tempo_map, other)
    args.out.mkdir(parents=True, exist_ok=True)
    groups = _groups(args.files, tracks, made, args.engine, args.out)
    subtype = "float" if args.float else "24"
    needed, free = needed_bytes(groups, longest(groups), subtype), shutil.disk_usage(args.out).free
    if needed > free:
        raise BadInput(f"The new tracks take {needed / 1e6:.0f} MB; the disk has {free / 1e6:.0f} MB left.")
    seconds = write_groups(groups, subtype, lambda x: progress("Stretching", _FINDING + (1 - _FINDING) * x), threads=2)
    smf.write(made.map, "Conformed").file.save(args.out / "conformed.mid")
    smf.write(tempo_map, "As played").file.save(args.out / "as played.mid")
    progress.end()
    _tell(tempo_map, made, groups, tracks, seconds)


def _target(args: argparse.Namespace, tempo_map: TempoMap, other: TempoMap | None) -> Conformed:
    if other:
        return to_map(tempo_map, other, args.bars_later)
    if args.keep is not None:
        return with_freedom(tempo_map, args.keep, args.keep)
    return steady(tempo_map, args.to)


def _groups(
    files: list[Path], tracks: list[AnalysedTrack], made: Conformed, engine: EngineName | str, out: Path
) -> list[GroupToWrite]:
    """Microphones of one instrument as one, everybody else alone; each with an engine that suits it."""
    together = suggest_groups(tracks)
    alone = [[i] for i in range(len(tracks)) if not any(i in g for g in together)]
    groups = []
    for places in [*together, *alone]:
        members = [tracks[i] for i in places]
        own: EngineName = suggest_engine(members).engine if engine == "auto" else engine  # type: ignore[assignment]
        writes = tuple(TrackToWrite(files[i], out / f"{files[i].stem}.wav") for i in places)
        groups.append(GroupToWrite(writes, made.warp, own, attacks_to_keep([t.attacks for t in members], own)))
    return groups


def _tell(
    tempo_map: TempoMap, made: Conformed, groups: list[GroupToWrite], tracks: list[AnalysedTrack], seconds: float
) -> None:
    print(f"{steady_bpm(tempo_map):.3f} beats a minute on average, now {steady_bpm(made.map):.3f}; {seconds:.3f} s")
    for group in groups:
        print(f"{', '.join(t.source.name for t in group.tracks)}: {group.engine}")
    found = cost(made.warp, tracks[0].attacks.seconds, tracks[0].seconds)
    print(f"the largest stretch: {found.largest:.3f}")
    for place in found.worst:
        if place.warns:
            print(
                f"listen at {place.start:.1f} to {place.end:.1f} s of the recording: {place.stretch:.2f} "
                f"(under {GENTLE[0]} or over {GENTLE[1]})"
            )
