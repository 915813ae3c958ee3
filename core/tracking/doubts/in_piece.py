"""Doubts that were raised about one of several pieces in a recording, as doubts about the whole recording; and those
about what lies between two pieces."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from core.document.commands import Downbeat, Ends, Free, Ratio, SetMeter, Shift, ShiftByBeats, Starts
from core.tempomap import TempoMap
from core.tracking.doubts.doubt import LOOK, WHOLE, Doubt, Remedy

#: How far around a piece's beats a remedy for all of them reaches, in beats.
_AROUND = 0.25


def in_piece(doubts: Sequence[Doubt], part: TempoMap, is_first: bool, is_last: bool) -> list[Doubt]:
    """The doubts about ``part``, the piece's share of the map: one that concerns all of it names its bars and mends
    them alone; where the piece begins or ends, the recording's music does so only at the first and the last one."""
    beats = part.beats()
    first, last = part.bar_range
    around = _AROUND * float(beats.seconds[1] - beats.seconds[0])
    stretch = (float(beats.seconds[0]) - around, float(beats.seconds[-1]) + around)

    def of_these_bars(remedy: Remedy) -> Remedy:
        command = remedy.command
        assert isinstance(command, Ratio | ShiftByBeats | Shift | Downbeat)
        return replace(remedy, command=replace(command, stretch=stretch))

    def goes_on(remedy: Remedy) -> bool:
        """Whether it would change the pieces behind this one."""
        return isinstance(remedy.command, SetMeter)

    out = []
    for doubt in doubts:
        if doubt.kind in WHOLE:
            words = f"Bars {max(1, first)} to {last}: {doubt.reason}"
            doubt = replace(doubt, reason=words, remedies=[of_these_bars(r) for r in doubt.remedies if not goes_on(r)])
        elif doubt.kind == "end":
            at_start = doubt.beat == beats.index[0]
            moves_end = any(isinstance(r.command, Starts | Ends) for r in doubt.remedies)
            if moves_end and not (is_first if at_start else is_last):
                continue
        out.append(doubt)
    return out


def between_pieces(before: TempoMap, after: TempoMap) -> Doubt:
    """Nobody plays from the end of one piece to the start of the next one."""
    last, first = before.beats(), after.beats()
    start, end = float(last.seconds[-1]), float(first.seconds[0])
    half = 0.5 * float(last.seconds[-1] - last.seconds[-2])
    words = f"No music for {end - start:.0f} s: beats are only counted on here. What follows has a tempo of its own."
    silence = Remedy("no beats here, no click", Free((start + half, end - half)))
    return Doubt("pause", start + half, end - half, int(last.bar[-1]), int(last.index[-1]), LOOK, words, [silence])
