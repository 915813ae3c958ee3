"""A line a session for the library page."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from studio.jobs.models import Job
from studio.library.models import Session


@dataclass(frozen=True)
class Summary:
    session: Session
    tracks: int
    seconds: float
    tempo: str
    meter: str
    bars: int
    state: str
    contour: str  # points of a small polyline, 0 to 100 across and 0 to 24 down

    @property
    def length(self) -> str:
        return f"{int(self.seconds // 60)}:{int(self.seconds % 60):02d}"


def summaries() -> list[Summary]:
    found = Session.objects.select_related("step").prefetch_related("tracks", "jobs")
    return [_summary(s) for s in found]


def _summary(session: Session) -> Summary:
    tracks = session.tracks.all()
    tempo = meter = contour = ""
    bars = 0
    if session.step:
        tempo_map = session.tempo_map
        beats = tempo_map.beats()
        if len(beats) > 2:
            bpm = 60 / np.diff(beats.seconds)
            low, high = np.percentile(bpm, [5, 95])
            tempo = f"{low:.0f}–{high:.0f}" if high - low >= 1 else f"{np.median(bpm):.2f}".rstrip("0").rstrip(".")
            contour = _contour(beats.seconds, bpm, session.seconds)
        meter = str(tempo_map.meters.meter_at(1))
        bars = max(0, tempo_map.bar_range[1])
    return Summary(session, len(tracks), session.seconds, tempo, meter, bars, _state(session), contour)


def _contour(seconds: NDArray[np.float64], bpm: NDArray[np.float64], length: float) -> str:
    smooth = np.convolve(np.pad(bpm, 2, mode="edge"), np.ones(5) / 5, mode="valid")
    low, high = np.percentile(smooth, [2, 98])
    middle, reach = (low + high) / 2, max(high - low, 6.0) / 2
    level = np.clip((smooth - middle) / reach, -1, 1)
    pick = np.unique(np.linspace(0, len(level) - 1, 80).astype(int))
    return " ".join(f"{100 * seconds[i] / max(length, 1e-9):.1f},{12 - 9 * level[i]:.1f}" for i in pick)


def _state(session: Session) -> str:
    jobs = list(session.jobs.all())
    running = next((j for j in jobs if j.open), None)
    if running:
        return f"{running.label} {running.percent} %"
    if session.step:
        left = session.step.doubts
        return f"Mapped, {left} doubt{'s' * (left != 1)}" if left else "Mapped"
    if jobs and jobs[-1].state == Job.State.FAILED:
        return "Needs a look"
    return "Gathered" if session.tracks.all() else "Empty"
