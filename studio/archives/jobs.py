"""The jobs that archive a session and open an archive, and what becomes of an archive that was dropped on the page."""

from __future__ import annotations

import os
from pathlib import Path

from studio.archives import reading, writing
from studio.jobs.models import Job
from studio.jobs.queue import start
from studio.jobs.registry import Failed, JobKind, Report
from studio.library.models import Session
from studio.library.uploads import LISTEN, Refused

ARCHIVE, OPEN = "archive", "open-archive"
#: An archive that is to be opened, in the folder of the session that it becomes.
_INCOMING = "incoming.zip"


def place_of(session: Session) -> Path:
    """Where a session's archive lies; it is of the step that its name tells."""
    return session.folder / "archive" / f"step-{session.step_id or 0}.zip"


def archive(job: Job, report: Report) -> None:
    """Write the archive of a session as it is now."""
    session = Session.objects.select_related("step").get(pk=job.session_id)
    place = place_of(session)
    place.parent.mkdir(parents=True, exist_ok=True)
    for old in place.parent.glob("*.zip"):
        old.unlink()
    try:
        writing.write(session, place, lambda x: report("Archiving the session", x))
    except OSError as e:
        raise Failed(f"The archive cannot be written: {e.strerror}.") from None


def bring(session: Session, path: Path, name: str) -> dict[str, object] | None:
    """What becomes of an uploaded file that is an archive; None where it is none. Raises
    :class:`studio.library.uploads.Refused`."""
    if not reading.is_archive(path):
        return None
    incoming = session.folder / _INCOMING
    if session.step_id or incoming.exists() or session.tracks.exists():
        raise Refused(f"“{name}” is a whole session. Drop it on the page of all sessions: it opens as one of its own.")
    os.link(path, incoming)
    start(session, OPEN)
    return {"opens": True, "name": name}


def open_archive(job: Job, report: Report) -> None:
    """Fill the empty session with the archive that was dropped into it."""
    session = job.session
    incoming = session.folder / _INCOMING
    if not incoming.exists():
        raise Failed("The archive is gone. Drop it again.")
    try:
        reading.read(incoming, session, lambda x: report("Opening the archive", x))
    except reading.NoArchive as e:
        raise Failed(str(e)) from None
    finally:
        incoming.unlink(missing_ok=True)
    listen_to_all(session)


def listen_to_all(session: Session) -> None:
    """Have the tracks of an opened session analysed."""
    for track in session.tracks.all():
        start(session, LISTEN, track)


KINDS = [
    JobKind(ARCHIVE, "Archive of the session", archive),
    JobKind(OPEN, "Opening the archive", open_archive),
]
