"""The running order of a session: its sections in the order in which they are to be played."""

from typing import Any

from django.db import models

from studio.histories import Renumber, StatePiece
from studio.keys import Uncountable
from studio.library.models import Session


class Turn(Uncountable):
    """One place of the order: a section, how often, whether it is held until released, and how fast."""

    session = models.ForeignKey("library.Session", on_delete=models.CASCADE, related_name="turns")
    section = models.ForeignKey("desk.Mark", on_delete=models.CASCADE, related_name="+")
    place = models.PositiveIntegerField()
    times = models.PositiveSmallIntegerField(default=1)
    hold = models.BooleanField(default=False, help_text="a vamp: repeated until it is released")
    pace = models.FloatField(default=1.0, help_text="playing tempo, as a factor")

    class Meta:
        ordering = ["place", "pk"]

    def __str__(self) -> str:
        return str(self.section)


# ---- the order as a piece of the history

_FIELDS = ("pk", "section_id", "place", "times", "hold", "pace")


def _take(session: Session) -> list[list[Any]]:
    return [list(row) for row in Turn.objects.filter(session=session).order_by("pk").values_list(*_FIELDS)]


def _restore(session: Session, data: list[list[Any]]) -> None:
    session.turns.exclude(pk__in=[row[0] for row in data]).delete()
    for row in data:
        values = dict(zip(_FIELDS, row, strict=True))
        Turn.objects.update_or_create(pk=values.pop("pk"), defaults={**values, "session": session})


def _renumber(data: list[list[Any]], new: Renumber) -> list[list[Any]]:
    return [[new("running.turn", pk), new("desk.mark", section), *values] for pk, section, *values in data]


ORDER = StatePiece("order", _take, _restore, renumber=_renumber)
