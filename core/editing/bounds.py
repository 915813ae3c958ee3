"""What no engineer means: places far from the recording, bars by the million. Refused before anything is calculated."""

from __future__ import annotations

from core.document import Document
from core.document.commands import Command, PlaceAt
from core.editing.recording import Recording
from core.tempomap import TempoMap
from core.tempomap.edits import EditError
from core.tempomap.limits import LAST_BAR

#: Seconds before and after the recording at which something may still be meant, such as bars that lead in.
_AROUND = 600.0
#: Beats beyond either end of the map that may be meant.
_BEYOND = 500
#: The largest count of beats in a command, and in a map.
MOST_COUNTED, MOST_BEATS = 10_000, 50_000
#: Seconds of the widest window, and of the longest move.
_WIDEST, _FARTHEST = 10.0, 36_000.0


def check_bounds(command: Command, document: Document, recording: Recording) -> None:
    """Raises :class:`EditError` where a field of the command lies beyond all sense."""
    fields = vars(command)
    times = [fields.get("at"), fields.get("to"), *(fields.get("stretch") or ()), *(fields.get("taps") or ())]
    if any(t is not None and not -_AROUND <= t <= recording.seconds + _AROUND for t in times):
        raise EditError("That place lies far outside the recording.")
    for name, least, most in (
        ("bar", -LAST_BAR, LAST_BAR),
        ("bars", 0, LAST_BAR),
        ("beats", 1, MOST_COUNTED),
        ("first", -MOST_BEATS, MOST_BEATS),
        ("last", -MOST_BEATS, MOST_BEATS),
        ("by", -_FARTHEST, _FARTHEST),
        ("within", 0, _WIDEST),
        ("snap_within", 0, _WIDEST),
        ("share", -1, 1),
    ):
        value = fields.get(name)
        if isinstance(value, (int, float)) and not least <= value <= most:
            raise EditError(f"The {name.replace('_', ' ')} has to lie between {least:g} and {most:g}.")
    beat = fields.get("beat")
    if beat is not None and not isinstance(command, PlaceAt) and document.map is not None:
        index = document.map.beat_index_at(document.map.seconds[[0, -1]])
        if not index[0] - _BEYOND <= beat <= index[1] + _BEYOND:
            raise EditError("The map has no such beat.")
    if isinstance(command, PlaceAt) and not 1 <= command.beat <= MOST_COUNTED:
        raise EditError("Beats of a bar are counted from 1.")


def check_size(tempo_map: TempoMap) -> None:
    """Raises :class:`EditError` where a map has more beats than any take."""
    index = tempo_map.beat_index_at(tempo_map.seconds[[0, -1]])
    if index[1] - index[0] > MOST_BEATS:
        raise EditError(f"A map holds {MOST_BEATS} beats at most.")
