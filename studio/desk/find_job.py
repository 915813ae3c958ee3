"""Finding beats: the job that analyses a session and puts the map under it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from core.analysis import AnalysisError, analyse
from core.audio import AudioError
from core.formats.smf import MidiError
from core.tempomap.edits import EditError, pins_of
from core.tracking import NoBeats
from studio.analysis.features import SessionStore, source_of
from studio.analysis.models import Analysis
from studio.desk.edits import respect_locks
from studio.desk.history import record
from studio.desk.models import Mark
from studio.jobs.models import Job
from studio.jobs.registry import Failed, JobKind, Report

FIND = "find"


def find(job: Job, report: Report) -> None:
    """Analyse the tracks that are not analysed yet, find the beats, and make the map the session's next step."""
    session = job.session
    tracks = list(session.tracks.all())
    # what the engineer fixed or locked stays where it is
    old = session.step.tempo_map if session.step else None
    pins = old.seconds[pins_of(old)] if old else np.zeros(0)
    locks = list(session.marks.filter(kind=Mark.Kind.LOCK)) if old else []
    fixed = np.unique(np.concatenate([pins, *(lock.times(old.beats().seconds) for lock in locks if old)]))
    options = replace(session.tracking_options, pins=fixed.tolist())
    try:
        result = analyse([source_of(t) for t in tracks], options, report, SessionStore(tracks)).result
        found = result.map
        found = found.with_points(found.seconds, found.quarters, np.isin(found.seconds, pins))
        if old:
            respect_locks(session, old, found)
    except (AnalysisError, AudioError, MidiError, NoBeats, EditError) as e:
        raise Failed(str(e)) from None
    Analysis.record(session, result)
    step = record(session, found, "Beats found")
    step.doubts = len(result.doubts)
    step.save(update_fields=["doubts"])


KIND = JobKind(FIND, "Finding beats", find)
