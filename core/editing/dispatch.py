"""Which function carries out which command: they register with :func:`run`."""

from __future__ import annotations

from functools import singledispatch

from core.document import Document
from core.document.commands import Command
from core.editing.outcome import Outcome
from core.editing.recording import Recording
from core.tempomap import TempoMap
from core.tempomap.edits import EditError


@singledispatch
def run(command: Command, document: Document, recording: Recording, preview: bool) -> Outcome:
    """Carry out a command. ``preview``: quickly, for a look. Raises :class:`core.tempomap.edits.EditError`."""
    raise TypeError(f"No function carries out {type(command).__name__}.")


def map_of(document: Document) -> TempoMap:
    """Its map. Raises :class:`core.tempomap.edits.EditError` where there is none yet."""
    if document.map is None:
        raise EditError("There is no map yet.")
    return document.map
