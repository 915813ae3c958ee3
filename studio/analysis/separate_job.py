"""Taking a mix apart: its strokes and its tones become tracks, muted, as the mix sounds already."""

from __future__ import annotations

import tempfile
from pathlib import Path

from django.db import transaction

from core.audio import AudioError, separation
from studio.histories import changed
from studio.jobs.models import Job
from studio.jobs.queue import start
from studio.jobs.registry import Failed, JobKind, Report
from studio.library.models import Track
from studio.library.uploads import LISTEN, Refused, add_track

SEPARATE = "separate"


def separate(job: Job, report: Report) -> None:
    """Separate the job's track; what is there already is not made twice."""
    track = job.track
    if track is None or track.midi:
        raise Failed("Only a recording can be taken apart.")
    with tempfile.TemporaryDirectory(dir=job.session.folder) as folder:
        strokes, tones = Path(folder) / "strokes.flac", Path(folder) / "tones.flac"
        try:
            separation.write_parts(track.playback, strokes, tones, lambda x: report(f"Taking {track.name} apart", x))
            with transaction.atomic():
                job.fence()
                for path in (strokes, tones):
                    made = add_track(job.session, path, f"{track.name} {path.stem}.flac")
                    Track.objects.filter(pk=made.pk).update(muted=True)
                    start(job.session, LISTEN, made)
                changed(job.session, f"{track.name} taken apart")
        except AudioError as e:
            raise Failed(str(e)) from None
        except Refused:
            raise Failed(f"{track.name} was taken apart already.") from None


KIND = JobKind(SEPARATE, "Strokes and tones", separate)
