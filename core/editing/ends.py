"""Commands about where the mapped music starts and ends."""

from __future__ import annotations

from contextlib import suppress

import numpy as np

from core.document import Document, MusicEnds, MusicStarts
from core.document.commands import Ends, Starts
from core.editing.dispatch import map_of, run
from core.editing.outcome import Outcome
from core.editing.recording import Recording
from core.tempomap import TempoMap
from core.tempomap.edits import EditError
from core.tempomap.position import words_at
from core.tempomap.splice import between
from core.tracking.context import NoBeats
from core.tracking.extension import extended


@run.register
def _(command: Starts, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    beat = _named(tempo_map, recording, command.beat, command.to)
    kept = _ended(recording, tempo_map, beat, int(tempo_map.beats().index[-1]), preview)
    first = int(kept.beats().index[0])
    return Outcome(
        kept, f"Mapped music starts at {words_at(kept, first)}", (MusicStarts(float(kept.seconds_of_beat(first))),)
    )


@run.register
def _(command: Ends, document: Document, recording: Recording, preview: bool) -> Outcome:
    tempo_map = map_of(document)
    beat = _named(tempo_map, recording, command.beat, command.to)
    kept = _ended(recording, tempo_map, int(tempo_map.beats().index[0]), beat, preview)
    last = int(kept.beats().index[-1])
    return Outcome(
        kept, f"Mapped music ends at {words_at(kept, last)}", (MusicEnds(float(kept.seconds_of_beat(last))),)
    )


def _named(tempo_map: TempoMap, recording: Recording, beat: int | None, to: float | None) -> int:
    """The beat that was chosen, or the one nearest to where an end was dragged; both lie within the recording."""
    if beat is not None:
        return beat
    if to is None:
        raise EditError("Choose a beat first: click its line in the ruler.")
    ends = min(0.0, float(tempo_map.seconds[0])), max(recording.seconds, float(tempo_map.seconds[-1]))
    first, last = np.round(tempo_map.beat_index_at(ends), 6)  # a beat at an end is no beat beyond it
    return int(np.clip(np.round(tempo_map.beat_index_at(to)), np.ceil(first), np.floor(last)))


def _ended(recording: Recording, tempo_map: TempoMap, first: int, last: int, preview: bool) -> TempoMap:
    """The map between two of its beats; where that makes it longer, the new beats are detected, so there may be more or
    fewer than its tempo so far would make. A preview has them at that tempo."""
    even = between(tempo_map, first, last)
    if not preview:
        with suppress(NoBeats):
            return extended(recording.context(), even, tempo_map)
    return even
