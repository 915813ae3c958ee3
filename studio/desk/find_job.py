"""Finding beats: the job that analyses a session and puts the map under it."""

from __future__ import annotations

import numpy as np
from django.db import transaction

from core.analysis import AnalysisError, analyse
from core.audio import AudioError
from core.editing.search_options import as_said, search_options
from core.formats.smf import MidiError
from core.tempomap import TempoMap
from core.tempomap.edits import EditError
from core.tracking import NoBeats
from core.tracking.confidence import SAME_TEMPO
from core.tracking.doubts.doubt import WHOLE
from studio.analysis.features import SessionStore, source_of
from studio.analysis.models import Analysis
from studio.desk.history import FOUND, keep_aside, record, same_map, searches
from studio.desk.models import Mark
from studio.desk.recording import SessionRecording
from studio.desk.statements import document_of
from studio.jobs.models import Job
from studio.jobs.registry import Failed, JobKind, Report
from studio.library.listing import summarise
from studio.library.models import Session

FIND = "find"


def find(job: Job, report: Report) -> None:
    """Analyse the tracks that are not analysed yet, find the beats, and make the map the session's next step.

    What was said is obeyed, and what the engineer did to the whole take is kept. Where the map was edited meanwhile,
    what was found does not take its place: it is kept as a version.
    """
    session = job.session
    tracks = list(session.tracks.all())
    started_on = session.step
    earlier = searches(session)
    options = search_options(
        session.tracking_options, document_of(session), earlier, SessionRecording(session).pieces()
    )
    try:
        result = analyse([source_of(t) for t in tracks], options, report, SessionStore(tracks)).result
        session = Session.objects.select_related("step").get(pk=session.pk)
        recording = SessionRecording(session)
        found = as_said(recording, result.map, document_of(session), earlier, result.pieces)
    except (AnalysisError, AudioError, MidiError, NoBeats, EditError) as e:
        raise Failed(str(e)) from None
    with transaction.atomic():
        job.fence()
        session.refresh_from_db(fields=["step"])
        Analysis.record(session, result)
        now = session.step
        aside = now is not None and not same_map(session, started_on.pk if started_on else None)
        if now is not None and aside:
            keep_aside(session, found, FOUND, now)
        else:
            if now is not None:
                _ask_again(session, now.tempo_map, found)
            step = record(session, found, FOUND)
            step.doubts = len(result.doubts)
            step.save(update_fields=["doubts"])
            summarise(session)
    if aside:
        raise Failed(
            "The map was edited while beats were being found. What was found is kept as a version: Check, Steps."
        )


def _ask_again(session: Session, before: TempoMap, found: TempoMap) -> None:
    """What was dismissed about the whole of a map does not hold for one that is counted at another tempo."""
    intervals = [float(np.median(np.diff(m.beats().seconds))) for m in (before, found)]
    if abs(np.log(intervals[1] / intervals[0])) > SAME_TEMPO:
        session.marks.filter(kind=Mark.Kind.FINE, name__in=WHOLE).delete()


KIND = JobKind(FIND, "Finding beats", find)
