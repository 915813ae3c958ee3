"""Finding beats: the job that analyses a session and puts the map under it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from core.analysis import AnalysisError, analyse
from core.audio import AudioError
from core.document import Document
from core.editing.obeying import fixed_times, obeying
from core.formats.smf import MidiError
from core.tempomap.edits import EditError, pins_of
from core.tracking import NoBeats
from studio.analysis.features import SessionStore, source_of
from studio.analysis.models import Analysis
from studio.desk.history import record
from studio.desk.recording import SessionRecording
from studio.desk.statements import document_of
from studio.jobs.models import Job
from studio.jobs.registry import Failed, JobKind, Report

FIND = "find"


def find(job: Job, report: Report) -> None:
    """Analyse the tracks that are not analysed yet, find the beats, and make the map the session's next step."""
    session = job.session
    tracks = list(session.tracks.all())
    document = document_of(session)
    pins = document.map.seconds[pins_of(document.map)].tolist() if document.map else []
    try:
        options = replace(session.tracking_options, pins=sorted({*pins, *fixed_times(document)}))
        result = analyse([source_of(t) for t in tracks], options, report, SessionStore(tracks)).result
        found = result.map
        found = found.with_points(found.seconds, found.quarters, np.isin(found.seconds, pins))
        found = obeying(SessionRecording(session), Document(found, document.statements), pins)
    except (AnalysisError, AudioError, MidiError, NoBeats, EditError) as e:
        raise Failed(str(e)) from None
    Analysis.record(session, result)
    step = record(session, found, "Beats found")
    step.doubts = len(result.doubts)
    step.save(update_fields=["doubts"])


KIND = JobKind(FIND, "Finding beats", find)
