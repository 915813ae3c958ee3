"""What jobs do."""

from dataclasses import asdict, replace

import numpy as np

from core.beats import NoBeats, solve
from core.listening.audio import AudioError
from studio.desk.edits import EditError, respect_locks
from studio.desk.history import record
from studio.desk.models import Mark
from studio.harmony.finding import NoChords, find_chords
from studio.jobs.models import Job
from studio.library.hearing import hear, player

SHORTEST = 4.0


class Failed(Exception):
    """Work that cannot end well, in words for the engineer."""


def listen(job: Job, report) -> None:
    if not job.track.heard:
        stage = f"Listening to {job.track.name}"[:200]
        _hear(job.track, lambda share: report(stage, share))


def _hear(track, progress) -> None:
    try:
        hear(track, progress)
    except AudioError as e:
        raise Failed(str(e)) from None


def find(job: Job, report) -> None:
    """Listen to what was not listened to yet, find the beats, and lay the map under the session."""
    session = job.session
    tracks = list(session.tracks.all())
    if not tracks:
        raise Failed("There are no tracks yet. Drop the tracks of a performance on the page.")
    if session.seconds < SHORTEST:
        raise Failed(f"The take lasts {session.seconds:.1f} s; finding beats needs at least {SHORTEST:.0f} s.")
    unheard = [t for t in tracks if not t.heard]
    for i, track in enumerate(unheard):
        stage = f"Listening to {track.name} ({i + 1} of {len(unheard)})"[:200]
        _hear(track, lambda x, i=i, stage=stage: report(stage, 0.6 * (i + x) / len(unheard)))
    begun = 0.6 if unheard else 0.0
    report("Gathering the evidence", begun)
    # what the engineer fixed or locked stays where it is
    old = session.step.tempo_map if session.step else None
    pins = old.seconds[old.pins] if old else np.zeros(0)
    locks = list(session.marks.filter(kind=Mark.Kind.LOCK)) if old else []
    fixed = np.unique(np.concatenate([pins, *(lock.times(old.beats().seconds) for lock in locks)]))
    try:
        solution = solve(
            [player(t) for t in tracks],
            replace(session.wishes, pins=fixed.tolist(), guides=session.guides),
            lambda stage, share: report(stage, begun + (1 - begun) * share),
        )
        found = solution.map
        found = found.with_points(found.seconds, found.quarters, np.isin(found.seconds, pins))
        if old:
            respect_locks(session, old, found)
    except (NoBeats, EditError) as e:
        raise Failed(str(e)) from None
    finding = {
        "confidence": [round(float(c), 3) for c in solution.confidence],
        "ranks": [asdict(r) for r in solution.ranks],
        "doubts": [d.to_json() for d in solution.doubts],
        "alternatives": [{"name": a.name, "map": a.map.to_json()} for a in solution.alternatives[:6]],
    }
    step = record(session, found, "Beats found", finding=finding)
    step.doubts = len(solution.doubts)
    step.save(update_fields=["doubts"])


def chords(job: Job, report) -> None:
    """Find the chords, the key and the tuning of the session's tracks."""
    try:
        find_chords(job.session, report)
    except NoChords as e:
        raise Failed(str(e)) from None


WORK = {Job.Kind.LISTEN: listen, Job.Kind.FIND: find, Job.Kind.CHORDS: chords}
