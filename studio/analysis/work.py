"""Listening: the job that analyses one track."""

from __future__ import annotations

from core.analysis import analyse_sources
from core.audio import AudioError
from core.formats.smf import MidiError
from studio.analysis.features import SessionStore, outdated, source_of
from studio.jobs.models import Job
from studio.jobs.queue import start
from studio.jobs.registry import Failed, JobKind, Report
from studio.library.uploads import LISTEN


def listen(job: Job, report: Report) -> None:
    """Analyse a track that was not analysed yet, or by another version."""
    track = job.track
    if track is None:
        return
    try:
        list(
            analyse_sources(
                [source_of(track)], SessionStore([track]), lambda _, x: report(f"Listening to {track.name}", x)
            )
        )
    except (AudioError, MidiError) as e:
        raise Failed(str(e)) from None


def listen_again() -> int:
    """Queue jobs for all tracks whose analysis is out of date. Returns how many."""
    tracks = outdated()
    for track in tracks:
        start(track.session, LISTEN, track)
    return len(tracks)


KIND = JobKind(LISTEN, "Listening", listen)
