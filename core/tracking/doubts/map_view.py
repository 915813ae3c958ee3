"""The map under review, as parallel arrays a felt beat; and what several doubts use: remedies, runs of beats."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.document.commands import Move, Redetect
from core.tempomap import TempoMap
from core.tracking.candidate import MapCandidate
from core.tracking.context import AnalysisContext
from core.tracking.doubts.doubt import Doubt, Remedy

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: How far around a beat another attack is looked for, and how near it would be the same, in seconds.
_AROUND, _SAME = 0.18, 0.025


@dataclass(frozen=True)
class MapView:
    """A map under review: ``seconds``, ``bar`` and felt-beat ``index`` of its beats, their ``confidence``, and what it
    was assembled from."""

    context: AnalysisContext
    candidate: MapCandidate
    map: TempoMap
    confidence: Floats
    seconds: Floats
    bar: Ints
    index: Ints

    @classmethod
    def of(cls, context: AnalysisContext, candidate: MapCandidate, tempo_map: TempoMap, confidence: Floats) -> MapView:
        beats = tempo_map.beats()
        n = min(len(beats), len(confidence))
        return cls(context, candidate, tempo_map, confidence, beats.seconds[:n], beats.bar[:n], beats.index[:n])

    @property
    def intervals(self) -> Floats:
        return np.diff(self.seconds)

    @property
    def support(self) -> Floats:
        return self.candidate.support

    def doubt(self, kind: str, i: int, j: int, severity: int, reason: str, remedies: Sequence[Remedy] = ()) -> Doubt:
        """About beats ``i`` to ``j``, with half a beat on either side."""
        half = 0.5 * float(np.median(self.intervals))
        return Doubt(
            kind,
            max(0.0, float(self.seconds[i]) - half),
            float(self.seconds[j]) + half,
            int(self.bar[i]),
            int(self.index[i]),
            severity,
            reason,
            list(remedies),
        )


def redetect_remedy(view: MapView, i: int, j: int) -> Remedy:
    """Detect beats ``i`` to ``j`` again, from two beats before to two beats after."""
    a, b = max(0, i - 2), min(len(view.seconds) - 1, j + 2)
    return Remedy("detect this stretch again", Redetect(first=int(view.index[a]), last=int(view.index[b])))


def nearest_attack_remedy(view: MapView, i: int) -> list[Remedy]:
    """Move beat ``i`` to the strongest attack around it; nothing where there is none."""
    best, at = 0.0, 0.0
    for p, r in zip(view.context.tracks, view.context.ranks, strict=True):
        lo, hi = np.searchsorted(p.attacks.seconds, [view.seconds[i] - _AROUND, view.seconds[i] + _AROUND])
        for k in range(lo, hi):
            worth = r.weight * r.clearness * float(p.attacks.strength[k])
            if abs(p.attacks.seconds[k] - view.seconds[i]) > _SAME and worth > best:
                best, at = worth, float(p.attacks.seconds[k])
    if not best:
        return []
    by = 1000 * (at - view.seconds[i])
    return [
        Remedy(
            f"move it {by:+.0f} ms to the attack there",
            Move(int(view.index[i]), at, free=True),
        )
    ]


def log_odds(confidence: Floats, most: float) -> Floats:
    """Nats by which each beat is likelier right than wrong, so that two of them can be compared; none is surer than
    ``most``, nor surer to be wrong."""
    likely = np.clip(confidence, 1 - most, most)
    return np.asarray(np.log(likely / (1 - likely)))


def runs(flags: NDArray[np.bool_], join: int = 1) -> list[tuple[int, int]]:
    """First and last place of each run of flags; runs less than ``join`` apart are one."""
    out: list[tuple[int, int]] = []
    for i in np.flatnonzero(flags).tolist():
        if out and i - out[-1][1] <= join:
            out[-1] = (out[-1][0], i)
        else:
            out.append((i, i))
    return out


def merged(doubts: list[Doubt]) -> list[Doubt]:
    """Overlapping doubts of one kind as the most severe of them, widened."""
    out: list[Doubt] = []
    for d in doubts:
        if out and d.kind == out[-1].kind and d.start <= out[-1].end:
            last = out.pop()
            keep = d if d.severity > last.severity else last
            out.append(Doubt(d.kind, last.start, d.end, last.bar, last.beat, keep.severity, keep.reason, keep.remedies))
        else:
            out.append(d)
    return out
