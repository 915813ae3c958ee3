"""Taking the map that a recording carries: no search, its tracks are only analysed."""

from __future__ import annotations

from django.db import transaction

from core.analysis import AnalysisError, analyse_sources
from core.audio import AudioError
from core.formats.carried import CarriedMap, CarryError, read_carried
from core.formats.smf import MidiError
from core.tempomap.edits import EditError
from studio.analysis.features import SessionStore, source_of
from studio.desk.outside_maps import take_map
from studio.jobs.models import Job
from studio.jobs.registry import Failed, JobKind, Report
from studio.library.models import Session

CARRIED = "carried"


def carried_by(session: Session) -> tuple[CarriedMap, str] | None:
    """The map that one of the session's recordings carries, and the name of its track."""
    for track in session.tracks.all():
        try:
            found = read_carried(track.source)
        except (CarryError, OSError):
            continue
        if found:
            return found, track.name
    return None


def take(job: Job, report: Report) -> None:
    """Analyse the tracks, and make the map that one of them carries the session's first step."""
    session, tracks = job.session, list(job.session.tracks.all())
    found = carried_by(session)
    if found is None:
        raise Failed("None of the recordings carries a map any more. Find looks for the beats.")
    carried, name = found
    try:
        list(analyse_sources([source_of(t) for t in tracks], SessionStore(tracks), report))
        with transaction.atomic():
            job.fence()
            session.refresh_from_db(fields=["step"])
            if session.step is not None:
                raise Failed("This session has a map by now; the one in the recording was not taken.")
            take_map(session, carried, f"Map that {name} carries")
    except (AnalysisError, AudioError, MidiError, EditError) as e:
        raise Failed(str(e)) from None


KIND = JobKind(CARRIED, "Taking the map from the recording", take)
