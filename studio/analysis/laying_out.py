"""Recordings that a recorder started at different times, laid out by the time stamps in their files.

Broadcast WAV (EBU Tech 3285): ``TimeReference`` in the ``bext`` chunk counts samples since midnight; so does
``TIMESTAMP_SAMPLES_SINCE_MIDNIGHT`` in an ``iXML`` chunk (iXML specification 3.01).
"""

from __future__ import annotations

from dataclasses import dataclass

from django.db import transaction

from core.audio import splitting
from core.formats.carried import CarryError, riff
from studio.histories import changed
from studio.jobs.queue import start
from studio.library.models import Session, Track
from studio.library.uploads import LISTEN

#: A day, in seconds: stamps begin again at midnight.
_DAY = 24 * 3600
#: Recordings of one performance start within so many seconds of each other.
MOST_APART = 6 * 3600


@dataclass(frozen=True)
class Start:
    """``seconds`` after the first one at which a track's recording starts; None where its file does not say."""

    track: Track
    seconds: float | None


def stamped(track: Track) -> float | None:
    """Seconds since midnight at which a recording starts, by its file; of the two chunks the one that says more."""
    try:
        with track.source.open("rb") as file:
            wave = riff.opened(file)
    except (CarryError, OSError):
        return None
    samples = riff.time_reference(wave)
    if not samples and (other := splitting.samples_since_midnight(track.source)) is not None:
        samples = other
    return samples / wave.rate if samples is not None and wave.rate else None


def starts(session: Session) -> list[Start]:
    """When each track starts after the first one. Empty where the files do not tell them apart: fewer than two stamps,
    all alike, or farther apart than recordings of one performance are."""
    found = [(t, None if t.midi else stamped(t)) for t in session.tracks.all()]
    known = [s for _, s in found if s is not None]
    if len(known) < 2:
        return []
    first = min(known)
    if max(known) - first > MOST_APART:  # over midnight
        known = [s + _DAY if s < _DAY / 2 else s for s in known]
        first = min(known)
    if max(known) - first > MOST_APART or max(known) - first < 1 / session.sample_rate:
        return []
    later = [None if s is None else (s - first) % _DAY for _, s in found]
    return [Start(t, s) for (t, _), s in zip(found, later, strict=True)]


def lay_out(session: Session, by_stamps: bool) -> int:
    """Place every track where its file says that it starts, or all at time zero again. Tracks that move are analysed
    anew. Returns how many moved."""
    wanted = {s.track.pk: s.seconds or 0.0 for s in starts(session)} if by_stamps else {}
    moved = 0
    with transaction.atomic():
        for track in session.tracks.all():
            offset = wanted.get(track.pk, 0.0)
            if abs(offset - track.offset) < 0.5 / session.sample_rate:
                continue
            track.playback_copy.unlink(missing_ok=True)
            track.seconds += offset - track.offset
            track.offset, track.analysed, track.features_version = offset, False, 0
            track.save(update_fields=["offset", "seconds", "analysed", "features_version"])
            start(session, LISTEN, track)
            moved += 1
        if moved:
            changed(session, "Laid out by time stamps" if by_stamps else "All tracks start together")
    return moved
