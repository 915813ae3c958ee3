"""Writing reshaped tracks: the job."""

from __future__ import annotations

import shutil
from pathlib import Path

from core.formats import smf
from core.reshaping.writing import GroupToWrite, TrackToWrite, needed_bytes, write_groups
from studio.jobs.models import Job
from studio.jobs.registry import Failed, JobKind, Report
from studio.reshaping.files import folder_of, names_of
from studio.reshaping.result import Result, result_of

RESHAPE = "reshape"
#: What is left free on the disk, in bytes.
_RESERVE = 200 << 20


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


def write(job: Job, report: Report) -> None:
    """Write all tracks at the session's rate, of one length, with both maps."""
    session = job.session
    result = result_of(session)
    if result is None:
        raise Failed("Nothing is reshaped: the result is the recording.")
    folder = folder_of(session, result.key)
    groups = groups_to_write(result, folder)
    needed, free = needed_bytes(groups, result.seconds), shutil.disk_usage(session.folder).free
    if needed + _RESERVE > free:
        raise Failed(f"The tracks take {needed / 1e6:.0f} MB; the disk has {free / 1e6:.0f} MB left.")
    for old in (session.folder / "reshaped").glob("*"):
        if old != folder:
            shutil.rmtree(old, ignore_errors=True)
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "ready").unlink(missing_ok=True)
    write_groups(groups, "24", lambda x: report("Making the reshaped tracks", x), result.seconds, threads=2)
    smf.write(result.map, session.title).file.save(folder / "map.mid")
    smf.write(session.tempo_map, session.title).file.save(folder / "map as played.mid")
    (folder / "ready").touch()


KIND = JobKind(RESHAPE, "Reshaped tracks", write)
