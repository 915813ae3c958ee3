"""From a pass to a track, and which of several passes sounds."""

from __future__ import annotations

from django.db import transaction
from django.utils import timezone

from core.audio import growing
from studio.histories import changed
from studio.jobs.models import Job
from studio.jobs.queue import cancel, start
from studio.library.models import Session, Track
from studio.library.uploads import LISTEN, Refused, add_track
from studio.recording.map_so_far import MAP_SO_FAR
from studio.recording.models import CUT_OFF, Recording


def end(recording: Recording, cut_off: bool = False) -> Track | None:
    """Make the pass a track at its place; earlier passes of its name fall silent. None where nothing was recorded.

    Ending a pass that is ended returns its track. Raises :class:`Refused`.
    """
    if recording.ended:
        return recording.track
    count = growing.close(recording.path, recording.rate, recording.channels) if recording.path.exists() else 0
    if not count:
        Recording.objects.filter(pk=recording.pk).update(ended=True)
        recording.path.unlink(missing_ok=True)
        return None
    for job in Job.objects.filter(session=recording.session, kind=MAP_SO_FAR, state__in=("waiting", "running")):
        cancel(job)  # the whole take is looked at next
    with transaction.atomic():
        mine = Recording.objects.filter(pk=recording.pk, ended=False)
        if not mine.update(ended=True):  # another window was faster
            recording.refresh_from_db()
            return recording.track
        session = recording.session
        track = add_track(session, recording.path, f"{recording.name}.wav")
        track.offset = recording.starts
        track.seconds += recording.starts
        if cut_off:
            track.remarks = [*track.remarks, "The recording was cut off here; what had arrived is all there."]
        track.save(update_fields=["offset", "seconds", "remarks"])
        Recording.objects.filter(pk=recording.pk).update(track=track)
        _silence_others(recording, track)
        start(session, LISTEN, track)
        changed(session, f"{track.name} recorded")
    recording.path.unlink(missing_ok=True)  # the track has it under its own name
    recording.refresh_from_db()
    return track


def activate(recording: Recording) -> None:
    """Of all passes of one name this one sounds."""
    track = recording.track
    if track is None or track.gone:
        return
    with transaction.atomic():
        _silence_others(recording, track)
        Track.objects.filter(pk=track.pk).update(muted=False)
        changed(recording.session, f"{track.name} is the pass that sounds")


def _silence_others(recording: Recording, track: Track) -> None:
    others = Recording.objects.filter(session=recording.session, name=recording.name, track__isnull=False)
    Track.objects.filter(recording__in=others.exclude(track=track)).update(muted=True)


def end_cut_off(session: Session, after: int = CUT_OFF) -> int:
    """Passes that were cut off ``after`` seconds ago become tracks with what arrived of them; how many."""
    count = 0
    for recording in session.recordings.filter(ended=False):
        if recording.is_cut_off(after):
            try:
                count += end(recording, cut_off=True) is not None
            except Refused:
                Recording.objects.filter(pk=recording.pk).update(ended=True, last_samples=timezone.now())
    return count
