"""Other readings of a whole take: other tempos, other meters, bar lines on other beats."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from core.tempomap import Meter
from core.tracking.candidate import MapCandidate, in_meter
from core.tracking.context import AnalysisContext
from core.tracking.results import Alternative

_NAMES = ((0.5, "half the tempo"), (2.0, "double the tempo"), (2 / 3, "2:3 of the tempo"), (1.5, "3:2 of the tempo"))
#: A tempo within this of such a ratio (natural logarithm) is called by it.
_SAME_RATIO = 0.06
#: Another meter is offered up to so many nats below the chosen one.
_METERS_WITHIN = 1.5
#: A nat of bars against one of tempo, when readings are put in order.
_BARS_AGAINST_TEMPO = 0.4


def alternatives(
    context: AnalysisContext, best: MapCandidate, rivals: Sequence[MapCandidate], any_meter: bool
) -> list[Alternative]:
    """The likeliest first. ``rivals``: candidates at other tempos; ``any_meter``: the engineer named none."""
    out = [*_tempos(best, rivals), *(_meters(context, best) if any_meter else []), *_downbeats(best)]
    named: dict[str, Alternative] = {}
    for other in sorted(out, key=lambda a: -a.score):
        named.setdefault(other.name, other)  # of two alike the better
    return list(named.values())


def _tempos(best: MapCandidate, rivals: Sequence[MapCandidate]) -> list[Alternative]:
    out = []
    for rival in rivals:
        bpm = rival.hypothesis.bpm
        ratio = bpm / best.hypothesis.bpm
        name = next((n for r, n in _NAMES if abs(np.log(ratio / r)) < _SAME_RATIO), f"{bpm:.0f} beats a minute")
        out.append(Alternative(name, rival.hypothesis.score, rival.map))
    return out


def _meters(context: AnalysisContext, best: MapCandidate) -> list[Alternative]:
    out = []
    for beats, score in sorted(best.division.scores.items(), key=lambda item: -item[1]):
        if beats != best.division.beats and score > best.division.score - _METERS_WITHIN:
            meter = Meter(beats, 4) if not best.hypothesis.ternary else Meter(3 * beats, 8)
            other = in_meter(context, best, meter).map
            lost = _BARS_AGAINST_TEMPO * (best.division.score - score)
            out.append(Alternative(f"bars of {other.meters.meter_at(1)}", best.hypothesis.score - lost, other))
    return out


def _downbeats(best: MapCandidate) -> list[Alternative]:
    """Every downbeat on another beat of the bar."""
    out = []
    evidence, found = best.evidence, best.division.downbeats
    for by in range(1, best.map.meters.changes[0].meter.beats):
        # how much less the beats there sound like downbeats
        downbeats = (found + by)[found + by < len(evidence)]
        lost = float(evidence[found].mean() - evidence[downbeats].mean())
        index = best.map.meters.beat_of_quarters(best.map.quarters) - by
        if index[0] <= 0 < index[-1]:
            quarters = best.map.meters.quarters_of_beat(index)
            shifted = best.map.with_points(best.map.seconds, quarters, best.map.pins)
            score = best.hypothesis.score - _BARS_AGAINST_TEMPO * max(0.0, lost)
            out.append(Alternative(f"downbeat {by} later", score, shifted))
    return out
