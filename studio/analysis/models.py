"""What analyses of a session found, beside the map itself."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from django.db import models

from core.listening import stored
from core.tracking import TrackingResult
from studio.library.models import Session

#: Other readings that are kept.
_MOST_ALTERNATIVES = 6


class Analysis(models.Model):
    """One search for beats: confidence of each beat, guides, doubts, other readings (whole maps), the beats of each
    tempo hypothesis and where each of several pieces lies (frames of 10 ms), as JSON."""

    session = models.ForeignKey("library.Session", on_delete=models.CASCADE, related_name="analyses")
    made = models.DateTimeField(auto_now_add=True)
    features_version = models.PositiveIntegerField(help_text="of the tracks' analyses that it was made from")
    confidence = models.JSONField(default=list)
    guides = models.JSONField(default=list)
    doubts = models.JSONField(default=list)
    alternatives = models.JSONField(default=list)
    chains = models.JSONField(default=list)
    pieces = models.JSONField(default=list)

    class Meta:
        ordering = ["pk"]
        get_latest_by = "pk"

    def __str__(self) -> str:
        return f"analysis of {self.session_id}, {self.made:%Y-%m-%d %H:%M}"

    @classmethod
    def record(cls, session: Session, result: TrackingResult) -> Analysis:
        """Keep what a search found; whole maps and chains of earlier searches go, as nothing uses them any more."""
        session.analyses.exclude(alternatives=[], chains=[]).update(alternatives=[], chains=[])
        return cls.objects.create(
            session=session,
            features_version=stored.VERSION,
            confidence=[round(float(c), 3) for c in result.confidence],
            guides=[asdict(r) for r in result.guides],
            doubts=[d.to_json() for d in result.doubts],
            alternatives=[{"name": a.name, "map": a.map.to_json()} for a in result.alternatives[:_MOST_ALTERNATIVES]],
            chains=[chain.tolist() for chain in result.chains],
            pieces=result.pieces,
        )


def latest(session: Session, *fields: str) -> dict[str, Any]:
    """``fields`` of the last analysis; each empty where there was none."""
    found = session.analyses.values(*fields).last()
    return found if found else {name: [] for name in fields}
