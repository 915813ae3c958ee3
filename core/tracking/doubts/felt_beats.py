"""Doubts about a map's even pulse, as doubts about its unequal felt beats."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from core.document.commands import Insert, Move, Redetect, Remove, Shift
from core.tempomap import TempoMap
from core.tempomap.pulses import same_place
from core.tracking.doubts.doubt import Doubt, Remedy


def to_felt_beats(doubts: Sequence[Doubt], pulse: TempoMap, felt: TempoMap) -> list[Doubt]:
    """Doubts about the map ``pulse`` as doubts about ``felt``, which has the same bars.

    Remedies that name a pulse on which no felt beat falls, or count pulses, make no sense there and are dropped.
    """
    ends = felt.beats().index[[0, -1]]

    def place(beat: int) -> float:
        return same_place(beat, pulse, felt)

    def to_felt(remedy: Remedy) -> Remedy | None:
        command = remedy.command
        match command:
            case Redetect(first=int(first), last=int(last)):
                a, b = int(np.floor(place(first))), int(np.ceil(place(last)))
                return replace(remedy, command=Redetect(first=max(a, int(ends[0])), last=min(b, int(ends[1]))))
            case Move(beat) | Remove(beat):
                at = place(beat)
                return replace(remedy, command=replace(command, beat=round(at))) if at == round(at) else None
            case Insert() | Shift():
                return remedy
        return None

    return [
        replace(d, beat=int(np.floor(place(d.beat))), remedies=[r for x in d.remedies if (r := to_felt(x))])
        for d in doubts
        if d.kind != "phase"  # a weak pulse is no weak beat
    ]
