"""A session's analysed tracks as commands of the core need them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from core.listening.attacks import Attacks
from core.tempomap import TempoMap
from core.tracking import AnalysisContext
from core.tracking.results import Stretch
from studio.analysis import features
from studio.analysis.models import latest
from studio.desk.history import searches
from studio.library.models import Session


class SessionRecording:
    """The recording of a session (:class:`core.editing.Recording`)."""

    def __init__(self, session: Session) -> None:
        self.session = session

    @property
    def seconds(self) -> float:
        return self.session.seconds

    def context(self) -> AnalysisContext:
        return features.context(self.session)

    def attacks(self, track: int | None = None) -> Sequence[Attacks]:
        tracks = [t for t in self.session.tracks.all() if t.analysed and track in (None, t.pk)]
        return [features.attacks(t) for t in tracks]

    def reading(self, number: int) -> tuple[str, TempoMap] | None:
        offered = latest(self.session, "alternatives")["alternatives"]
        if not 0 <= number < len(offered):
            return None
        return offered[number]["name"], TempoMap.from_json(offered[number]["map"])

    @property
    def found(self) -> TempoMap | None:
        return next((found for found, _ in searches(self.session)[-1:]), None)

    def chains(self) -> Sequence[NDArray[np.int64]]:
        return [np.array(chain, dtype=np.int64) for chain in latest(self.session, "chains")["chains"]]

    def pieces(self) -> Sequence[Stretch]:
        return [(start, stop) for start, stop in latest(self.session, "pieces")["pieces"]]
