"""Carrying out commands: :func:`apply` takes a command, a document and the recording to a new document.

What was said holds: a command that contradicts a statement is refused with a sentence that names both, unless the
engineer takes the statement back. To add a command: :mod:`core.document.commands`, then its function here in the module
of its kind, registered with :func:`core.editing.dispatch.run`.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from core.document import BarLine, Document, Statement
from core.document.commands import Command, WithBars
from core.document.statements import holds, replaces, words
from core.editing import bars, beats, ends, stretches  # noqa: F401  # they register their commands
from core.editing.bounds import check_bounds, check_size
from core.editing.dispatch import run
from core.editing.outcome import Outcome
from core.editing.recording import Recording
from core.tempomap import MapError, TempoMap
from core.tempomap.edits import EditError, pins_of
from core.tempomap.position import words_at

__all__ = ["Applied", "Contradiction", "Recording", "apply"]

#: Times that differ by less are the same, in seconds.
_SAME = 1e-6


@dataclass(frozen=True)
class Applied:
    """A new ``document``; the ``name`` of the step; and the same ``flipped`` command with the other meaning for the bar
    lines behind it, where it has one."""

    document: Document
    name: str
    flipped: Command | None = None


class Contradiction(EditError):
    """A command that contradicts what was said: ``statements``, and pinned beats at ``pins`` (seconds)."""

    def __init__(self, sentence: str, statements: tuple[Statement, ...], pins: tuple[float, ...]) -> None:
        super().__init__(sentence)
        self.statements = statements
        self.pins = pins


def apply(
    command: Command, document: Document, recording: Recording, preview: bool = False, overrule: bool = False
) -> Applied:
    """The document after a command. ``preview`` asks for a quick result to show; ``overrule`` takes back the
    statements that contradict the command. Raises :class:`core.tempomap.edits.EditError`,
    :class:`Contradiction` among them."""
    check_bounds(command, document, recording)
    try:
        outcome = run(command, document, recording, preview)
    except MapError as e:  # a map that cannot be
        raise EditError(str(e)) from None
    check_size(outcome.map)
    statements = _with_said(document, outcome)
    broken = tuple(s for s in statements if not holds(s, outcome.map) and _held(s, document, outcome))
    pins = _lost_pins(document.map, outcome)
    if (broken or pins) and not overrule:
        raise Contradiction(_sentence(outcome, document, broken, pins), broken, pins)
    flipped = replace(command, bars=outcome.flipped) if outcome.flipped and isinstance(command, WithBars) else None
    left = tuple(s for s in statements if s not in broken)
    return Applied(Document(outcome.map, left), outcome.name, flipped)


def _with_said(document: Document, outcome: Outcome) -> tuple[Statement, ...]:
    """The statements with the new ones; each takes the place of older ones about the same thing."""
    kept = list(document.statements)
    for new in outcome.statements:
        same = [s for s in kept if replaces(new, s, outcome.map)]
        if isinstance(new, BarLine) and new.number is None and any(holds(s, outcome.map) for s in same):
            continue  # what was said already says more
        kept = [s for s in kept if s not in same] + [new]
    return tuple(kept)


def _held(statement: Statement, document: Document, outcome: Outcome) -> bool:
    """Whether a statement is new or was true of the map before: one that was false already stops nothing."""
    return statement in outcome.statements or document.map is None or holds(statement, document.map)


def _lost_pins(before: TempoMap | None, outcome: Outcome) -> tuple[float, ...]:
    """Times of pins that the new map does not have any more, without those that the command takes back."""
    if before is None:
        return ()
    old, new = before.seconds[pins_of(before)], outcome.map.seconds[pins_of(outcome.map)]
    back = np.sort(np.concatenate([new, outcome.unpinned, [-np.inf, np.inf]]))
    k = np.clip(np.searchsorted(back, old), 1, len(back) - 1)
    lost = np.minimum(back[k] - old, old - back[k - 1]) > _SAME
    return tuple(old[lost].tolist())


def _sentence(outcome: Outcome, document: Document, broken: tuple[Statement, ...], pins: tuple[float, ...]) -> str:
    sentences = [words(s, document.map) for s in broken]
    if pins and document.map is not None:
        beat = round(float(document.map.beat_index_at(pins[0])))
        more = f" and {len(pins) - 1} more" if len(pins) > 1 else ""
        sentences.append(f"{words_at(document.map, beat).capitalize()} is pinned at {pins[0]:.3f} s{more}")
    return f"“{outcome.name}” contradicts what you said: {'; '.join(sentences[:3])}."
