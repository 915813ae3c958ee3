"""The chords of a session, with a history of their own."""

from typing import Any

import orjson
from django.db import models

from core.harmony.chord_line import TimedChord
from core.harmony.chords import Chord
from studio.histories import Renumber, StatePiece
from studio.library.models import Session


class Harmony(models.Model):
    """Key and tuning of a session, and its chords as they are now."""

    session = models.OneToOneField("library.Session", on_delete=models.CASCADE, related_name="harmony")
    cents = models.FloatField(default=0.0, help_text="above equal temperament on A4 = 440 Hz")
    key = models.CharField(max_length=20, blank=True)
    grain = models.CharField(max_length=10, default="beat", choices=[("beat", "beats"), ("bar", "bars")])
    step = models.ForeignKey("harmony.ChordStep", null=True, on_delete=models.SET_NULL, related_name="+")


class ChordStep(models.Model):
    """All chords after one named edit, as JSON rows of seconds, symbol and confidence. Never changed or removed."""

    harmony = models.ForeignKey(Harmony, on_delete=models.CASCADE, related_name="steps")
    before = models.ForeignKey("self", null=True, on_delete=models.CASCADE, related_name="after")
    name = models.CharField(max_length=200)
    chords = models.TextField()
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return self.name

    def timed_chords(self) -> list[TimedChord]:
        return [TimedChord(t, Chord.parse(text), sure) for t, text, sure in orjson.loads(self.chords)]


# ---- chords as a piece of the history

_FIELDS = ("cents", "key", "grain", "step_id")


def _take(session: Session) -> dict[str, Any] | None:
    found: dict[str, Any] | None = Harmony.objects.filter(session=session).values(*_FIELDS).first()
    return found


def _restore(session: Session, data: dict[str, Any] | None) -> None:
    Harmony.objects.filter(session=session).update(**(data or {"step_id": None, "key": "", "cents": 0.0}))


def _renumber(data: dict[str, Any] | None, new: Renumber) -> dict[str, Any] | None:
    if not data or data["step_id"] is None:
        return data
    return {**data, "step_id": new("harmony.chordstep", data["step_id"])}


CHORDS_PIECE = StatePiece("chords", _take, _restore, renumber=_renumber)
