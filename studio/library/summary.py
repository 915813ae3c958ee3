"""A line a session for the page of all sessions."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from studio.jobs.models import Job
from studio.library.models import Session


@dataclass(frozen=True)
class Summary:
    """``contour``: points of a small polyline, 0 to 100 across and 0 to 24 down."""

    session: Session
    tracks: int
    seconds: float
    tempo: str
    meter: str
    bars: int
    state: str
    contour: str

    @property
    def length(self) -> str:
        return f"{int(self.seconds // 60)}:{int(self.seconds % 60):02d}"

    @property
    def tags(self) -> list[str]:
        return [t for t in self.session.tags.split(",") if t]


def read_map(session: Session) -> dict[str, Any]:
    """What a session's map tells of it, as plain data."""
    tempo_map = session.tempo_map
    beats = tempo_map.beats()
    out: dict[str, Any] = {
        "meter": str(tempo_map.meters.meter_at(1)),
        "bars": max(0, tempo_map.bar_range[1]),
        "tempo": "",
        "contour": "",
        "bpm": None,
    }
    if len(beats) > 2:
        bpm = 60 / np.diff(beats.seconds)
        low, high = np.percentile(bpm, [5, 95])
        exact = f"{np.median(bpm):.2f}".rstrip("0").rstrip(".")
        out["tempo"] = f"{low:.0f}–{high:.0f}" if high - low >= 1 else exact
        out["contour"] = _contour(beats.seconds, bpm, session.seconds)
        out["bpm"] = float(np.median(bpm))
    return out


def summary_of(session: Session) -> Summary:
    """A session's line; its tracks and jobs should be there already."""
    found = session.map_summary if session.step else {}
    return Summary(
        session,
        len(session.tracks.all()),
        session.seconds,
        found.get("tempo", ""),
        found.get("meter", ""),
        found.get("bars", 0),
        _state(session),
        found.get("contour", ""),
    )


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
        return f"{left} doubt{'s' * (left != 1)}" if left else "Sure" if left == 0 else "Mapped"
    if jobs and jobs[-1].state == Job.State.FAILED:
        return "Needs a look"
    return "Gathered" if session.tracks.all() else "Empty"
