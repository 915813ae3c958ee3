"""What a step of the history keeps of a session itself: its settings, and its tracks."""

from typing import Any

from studio.histories import Renumber, StatePiece
from studio.library.models import Session, Track

_SETTINGS = ("title", "slowest", "fastest", "meter", "steady", "music_from", "music_to", "guides", "click",
             "sounds")  # fmt: skip
_TRACK = ("pk", "name", "gain", "muted", "solo", "gone", "pan", "role", "role_given")


def _take_settings(session: Session) -> dict[str, Any]:
    found: dict[str, Any] = Session.everything.values(*_SETTINGS).get(pk=session.pk)
    return found


def _restore_settings(session: Session, data: dict[str, Any]) -> None:
    Session.everything.filter(pk=session.pk).update(**data)


def _take_tracks(session: Session) -> list[list[Any]]:
    return [list(row) for row in Track.everything.filter(session=session).values_list(*_TRACK)]


def _restore_tracks(session: Session, data: list[list[Any]]) -> None:
    for pk, *values in data:
        Track.everything.filter(pk=pk, session=session).update(
            **dict(zip(_TRACK[1:], values, strict=False))
        )  # steps of long ago knew fewer


def _renumber_tracks(data: list[list[Any]], new: Renumber) -> list[list[Any]]:
    return [[new("library.track", pk), *values] for pk, *values in data]


SETTINGS = StatePiece("settings", _take_settings, _restore_settings)
#: Tracks that were added later stay when an earlier step is gone back to: what was recorded is never lost.
TRACKS = StatePiece("tracks", _take_tracks, _restore_tracks, renumber=_renumber_tracks)
