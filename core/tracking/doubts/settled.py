"""Which doubts are settled by what the engineer has said."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.tracking.doubts.doubt import WHOLE, WRONG, Doubt

#: What a hold explains: a long beat, and that nothing marks the beats around it.
_EXPLAINED_BY_HOLD = ("hold", "jump", "weak", "no-attack")
#: How far around a hold, and around counted bars, in seconds; and what counts as the same time.
_AROUND_HOLD, _AROUND_COUNTED, _SAME = 1.0, 0.6, 1e-6


@dataclass(frozen=True)
class Settlement:
    """What the engineer has said about a stretch of the recording (seconds): ``locked`` (right as it is), ``free`` (no
    beats here), ``hold``, ``counted`` (so many bars), ``line`` (a bar starts at ``start``), ``meter`` (that of the bar
    at ``start`` alone), ``meters`` (that of all bars from ``start`` on), ``starts`` and ``ends`` (the music does, at
    ``start``), or ``dismissed`` (a doubt of kind ``doubt`` was read and closed)."""

    kind: str
    start: float
    end: float
    doubt: str = ""


def is_settled(doubt: Doubt, pinned: NDArray[np.float64], settlements: Iterable[Settlement]) -> bool:
    """Whether a doubt is settled: by a pin among its beats (``pinned``: seconds; one about the whole take needs more),
    or by something said."""
    if (
        doubt.kind not in WHOLE
        and not _cannot_be_meant(doubt)
        and ((pinned >= doubt.start) & (pinned <= doubt.end)).any()
    ):
        return True
    return any(_settles(s, doubt) for s in settlements)


def _cannot_be_meant(doubt: Doubt) -> bool:
    """A tempo far from its neighbours: doubted between pins, too, as one of them may be a slip."""
    return doubt.kind in ("jump", "hold") and doubt.severity == WRONG


def _settles(settlement: Settlement, doubt: Doubt) -> bool:
    if settlement.kind == "dismissed":
        return settlement.doubt == doubt.kind and doubt.start < settlement.end and settlement.start < doubt.end
    if settlement.kind in ("locked", "free"):
        return settlement.start - _SAME <= doubt.start and doubt.end <= settlement.end + _SAME
    if settlement.kind == "counted":  # with the number of beats given, a long beat is a hold; the tempo may be wrong
        inside = settlement.start - _AROUND_COUNTED <= doubt.start and doubt.end <= settlement.end + _AROUND_COUNTED
        return inside and doubt.kind not in WHOLE and (doubt.kind == "hold" or not _cannot_be_meant(doubt))
    if settlement.kind == "line":
        return doubt.kind in ("downbeat", "bar lines") and doubt.start <= settlement.start <= doubt.end
    if settlement.kind in ("meter", "meters"):  # a bar's own meter says nothing of the others
        about = ("meter", "new meter", "bar length") if settlement.kind == "meters" else ("meter", "new meter")
        return doubt.kind in about and doubt.start <= settlement.start <= doubt.end
    if settlement.kind in ("starts", "ends"):
        return doubt.kind == "end" and doubt.start <= settlement.start <= doubt.end
    if settlement.kind == "hold":
        near = settlement.start - _AROUND_HOLD <= doubt.start and doubt.end <= settlement.end + _AROUND_HOLD
        return near and doubt.kind in _EXPLAINED_BY_HOLD
    return False
