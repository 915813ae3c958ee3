"""Writing reshaped tracks: the job."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any, Literal

import orjson
from pydantic import BaseModel, ConfigDict

from core.formats import smf
from core.reshaping.hushing import Hushed
from core.reshaping.measured import measure
from core.reshaping.sources import FileSource, SampleSource
from core.reshaping.writing import SUBTYPES, GroupToWrite, TrackToWrite, by_rate, needed_bytes, write_groups
from studio.jobs.models import Job
from studio.jobs.registry import Failed, JobKind, Report
from studio.library.models import Session
from studio.reshaping.files import REPORT, folder_of, names_of
from studio.reshaping.models import Reshape
from studio.reshaping.result import Result, put_on_clock, result_of

RESHAPE = "reshape"
#: What is left free on the disk, in bytes.
_RESERVE = 200 << 20


class Writing(BaseModel):
    """How tracks are written: ``depth`` 24 bits or floating point; ``companions``: with parts and click."""

    model_config = ConfigDict(extra="forbid")

    depth: Literal["24", "float"] = "24"
    companions: bool = False


#: Writes what rides the map of a session (which is on the result's clock) into a folder: seconds that each file lasts,
#: soundfile's subtype, and what to call with a stage in words and the share done.
Companion = Callable[[Session, Path, float, str, Report], None]
_companions: list[Companion] = []


def register_companion(write: Companion) -> None:
    """Add files to those of a result; from the ``ready`` of an app."""
    _companions.append(write)


def writing_of(session: Session) -> Writing:
    """How the engineer last asked for the tracks."""
    row = Reshape.objects.filter(session=session).first()
    return Writing.model_validate(row.writing) if row and row.writing else Writing()


def groups_to_write(result: Result, folder: Path) -> list[GroupToWrite]:
    names = names_of(result.tracks)
    out = []
    for group in result.groups:
        tracks = tuple(
            TrackToWrite(
                result.tracks[pk].playback,
                folder / names[pk],
                tuple(h for h in result.wanted.hushes if h.track == pk),
            )
            for pk in group.tracks
        )
        out.append(GroupToWrite(tracks, group.warp, group.engine, group.attacks))
    return out


def needed_and_free(result: Result, writing: Writing) -> tuple[int, int]:
    """Bytes that the tracks take, about, and those that the disk has left for them."""
    needed = needed_bytes(groups_to_write(result, Path()), result.seconds, writing.depth)
    return needed, max(0, shutil.disk_usage(result.session.folder).free - _RESERVE)


def check_space(result: Result, writing: Writing) -> None:
    """Raises :class:`studio.jobs.registry.Failed` where the disk has no room for the tracks."""
    needed, free = needed_and_free(result, writing)
    if needed > free:
        raise Failed(f"The tracks take {needed / 1e6:.0f} MB; the disk has {free / 1e6:.0f} MB left.")


def measured_of(result: Result, groups: Sequence[GroupToWrite]) -> list[dict[str, Any]]:
    """What the written tracks show, a row a track."""
    rows = []
    for group in groups:
        for part in by_rate(group):
            recordings: list[SampleSource] = [Hushed(FileSource(t.source), t.hushes) for t in part.tracks]
            found = measure(recordings, [FileSource(t.out) for t in part.tracks], part.warp, part.attacks)
            rows += [{"file": t.out.stem, **asdict(m)} for t, m in zip(part.tracks, found, strict=True)]
    return rows


def write(job: Job, report: Report) -> None:
    """Write all tracks at the session's rate, of one length, with both maps."""
    session = job.session
    result = result_of(session)
    if result is None:
        raise Failed("Nothing is reshaped: the result is the recording.")
    writing = writing_of(session)
    folder = folder_of(session, result.key)
    groups = groups_to_write(result, folder)
    check_space(result, writing)
    for old in (session.folder / "reshaped").glob("*"):
        if old.is_dir():
            shutil.rmtree(old, ignore_errors=True)
        else:
            old.unlink(missing_ok=True)
    folder.mkdir(parents=True, exist_ok=True)
    most = 0.9 if writing.companions else 1.0
    write_groups(
        groups, writing.depth, lambda x: report("Making the reshaped tracks", most * x), result.seconds, threads=2
    )
    smf.write(result.map, session.title).file.save(folder / "map.mid")
    smf.write(session.tempo_map, session.title).file.save(folder / "map as played.mid")
    report("Measuring what it did to the sound", most)
    (folder / REPORT).write_bytes(orjson.dumps(measured_of(result, groups)))
    if writing.companions:
        put_on_clock(session, result)
        for companion in _companions:
            companion(session, folder, result.seconds, SUBTYPES[writing.depth], report)
    job.fence()
    (folder / "ready").touch()


KIND = JobKind(RESHAPE, "Reshaped tracks", write)
