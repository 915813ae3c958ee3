"""Remedies that can be trusted: each is tried before it is offered.

A remedy has to fit the evidence better than the map as it is, contradict nothing that was said, take no beats off what
is struck for the sake of even bars, and leave no doubt of the same kind at its place. As every remedy raises the same
measure, a list of doubts cannot lead in circles.

How the whole take is counted (its tempo level, its off-beats, its bar lines) is a question to the engineer as well:
what fits no better there stays as a choice. So does what belongs to the music: a count-in or an introduction before the
first beat, what sounds after the last.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import cache

from core.document import Document
from core.document.commands import Command, Ends, Free, Starts
from core.editing import Recording, apply
from core.listening.rates import FRAME_RATE
from core.listening.track import Progress, no_progress
from core.tempomap import TempoMap
from core.tempomap.edits import EditError
from core.tempomap.pulses import has_pulses, pulsed
from core.tracking.doubts.doubt import Doubt
from core.tracking.fit import Known, fit, struck_fit, take_gain
from core.tracking.pieces import still_apart
from core.tracking.review import review

#: Kinds of doubts about the tempo of the whole take; all others are about single beats or bars.
_ABOUT_LEVEL = ("level", "phase")
#: Kinds of doubts about how the whole take, or a long stretch of it, is counted.
_ABOUT_COUNTING = (*_ABOUT_LEVEL, "bar lines", "bar length", "new meter")
#: By how much a remedy has to fit better, in nats: beats and bars together (odds of 19 to 1: right in 95 of 100), and
#: the tempo of the whole take, whose score is on its own scale.
_BETTER, _BETTER_TAKE = 2.94, 0.3
#: The same where a bar gets another number of beats: several of its beats may be the held one or the one too many.
#: Chosen on the fitting set (docs/measured.md).
_BETTER_BAR = 2 * _BETTER


def trusted(
    doubts: Sequence[Doubt],
    document: Document,
    recording: Recording,
    usual: tuple[float, float],
    progress: Progress = no_progress,
) -> list[Doubt]:
    """The doubts with only those remedies that can be trusted; the others about the whole take become choices.

    ``usual``: the tempo range that the engineer expects; ``progress`` is called with the share done before each doubt,
    and may raise to end it. Raises :class:`core.tracking.context.NoBeats`.
    """
    if document.map is None:
        return list(doubts)
    context = recording.context()
    before = document.map
    if has_pulses(before):
        context = context.by_attacks()
    was, known, chains = _even(before), Known(), recording.chains()
    pieces = still_apart(recording.pieces(), before)

    def changed(command: Command) -> TempoMap | None:
        """The map after a remedy; None where it cannot be had or changes nothing."""
        try:
            after = apply(command, document, recording).document.map
        except EditError:
            return None
        return after if after != before else None

    @cache
    def fits_before() -> tuple[float, float]:
        return fit(context, was, known), struck_fit(context, was)

    def is_trusted(doubt: Doubt, after: TempoMap) -> bool:
        now = _even(after)
        if doubt.kind in _ABOUT_LEVEL:
            middle = FRAME_RATE * (doubt.start + doubt.end) / 2
            piece = next((p for p in pieces if p[0] <= middle < p[1]), None)
            fits_better = take_gain(context, was, now, piece) >= _BETTER_TAKE
        else:
            fitted, struck = fits_before()
            # what is struck is known at once, the evidence for bar lines takes a while
            needed = _BETTER_BAR if doubt.kind in ("meter", "new meter") else _BETTER
            fits_better = struck_fit(context, now) >= struck - _BETTER and fit(context, now, known) >= fitted + needed
        if not fits_better:
            return False
        left = review(recording.context(), after, usual, chains, pieces)[1]
        return not any(d.kind == doubt.kind and d.start < doubt.end and doubt.start < d.end for d in left)

    def tried(doubt: Doubt) -> Doubt:
        remedies, choices = [], []
        for remedy in doubt.remedies:
            if isinstance(remedy.command, Free):  # says something of the music, and leaves the map as it is
                remedies.append(remedy)
                continue
            after = changed(remedy.command)
            if after is None:
                continue
            widens = isinstance(remedy.command, Starts | Ends)
            if not widens and is_trusted(doubt, after):
                remedies.append(remedy)
            elif widens or doubt.kind in _ABOUT_COUNTING:
                choices.append(remedy)
        return replace(doubt, remedies=remedies, choices=choices)

    out = []
    for k, doubt in enumerate(doubts):
        progress(k / len(doubts))
        out.append(tried(doubt))
    return out


def _even(tempo_map: TempoMap) -> TempoMap:
    return pulsed(tempo_map) if has_pulses(tempo_map) else tempo_map
