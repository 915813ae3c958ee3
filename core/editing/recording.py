"""What commands need of the recording beside the map."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from core.listening.attacks import Attacks, nearest_attack
from core.tempomap import TempoMap
from core.tracking.context import AnalysisContext
from core.tracking.results import Stretch


class Recording(Protocol):
    """The analysed tracks of a take."""

    @property
    def seconds(self) -> float:
        """Its length."""

    def context(self) -> AnalysisContext:
        """All evidence. Raises :class:`core.tracking.context.NoBeats` where nothing is analysed."""

    def attacks(self, track: int | None = None) -> Sequence[Attacks]:
        """The attacks of one track, or of each."""

    def reading(self, number: int) -> tuple[str, TempoMap] | None:
        """Name and map of another reading that the last search offered; None where there is no such."""

    @property
    def found(self) -> TempoMap | None:
        """The map as the last search found it; None where there was none."""

    def chains(self) -> Sequence[NDArray[np.int64]]:
        """The beats of each tempo hypothesis that the last search compared, in frames of 10 ms."""

    def pieces(self) -> Sequence[Stretch]:
        """Where each of several pieces of music lies that the last search found, in frames of 10 ms; empty where it
        found one."""


def snap_to_attack(recording: Recording, seconds: float, within: float, track: int | None = None) -> float:
    """The nearest attack within so many seconds, or the time itself. Those of ``track`` go first."""
    for group in (recording.attacks(track) if track is not None else [], recording.attacks()):
        found = nearest_attack(group, seconds, within)
        if found is not None:
            return found
    return seconds
