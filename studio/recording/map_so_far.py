"""What can be said of a take while it is still being played: the job that looks at what has been recorded so far."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
import soundfile as sf

from core.analysis import AnalysisError, Source, analyse
from core.audio import AudioError, growing
from core.tracking import NoBeats
from studio.desk.grid import grid
from studio.jobs.models import Job
from studio.jobs.registry import Failed, JobKind, Report
from studio.recording.models import Recording

MAP_SO_FAR = "map so far"
#: Seconds that a take has to have until there is something to say of it.
SHORTEST = 6.0


def look(job: Job, report: Report) -> None:
    """Find the beats of what has arrived of the session's running pass and keep them with it; nothing else changes."""
    recording = job.session.recordings.filter(ended=False).order_by("-pk").first()
    if recording is None or recording.frames < SHORTEST * recording.rate:
        return
    samples = growing.so_far(recording.path, recording.channels)
    with tempfile.TemporaryDirectory(dir=job.session.folder) as folder:
        path = Path(folder) / "so far.wav"
        sf.write(path, samples, recording.rate, "FLOAT")
        try:
            found = analyse([Source(path, "so far")], job.session.tracking_options, report).result.map
        except NoBeats:
            return
        except (AnalysisError, AudioError) as e:
            raise Failed(str(e)) from None
    job.fence()
    so_far = {
        "seconds": len(samples) / recording.rate,
        "bars": max(0, found.bar_range[1]),
        "meter": found.meters.meter_at(1).felt,
        "tempo": found.median_bpm,
        "grid": {k: v.tolist() if isinstance(v, np.ndarray) else v for k, v in grid(found).items()},
    }
    Recording.objects.filter(pk=recording.pk, ended=False).update(so_far=so_far)


KIND = JobKind(MAP_SO_FAR, "Listening along", look)
