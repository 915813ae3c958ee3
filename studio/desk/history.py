"""Undo and redo: a session points at one step of its history; edits add steps, nothing removes them."""

from datetime import datetime
from typing import NamedTuple

from django.db import transaction
from django.utils import timezone

from core.tempomap import TempoMap
from studio import histories
from studio.desk.models import MapStep, map_json
from studio.histories import Stale
from studio.library.models import Session


class Row(NamedTuple):
    """A step without its map: a session may have hundreds."""

    pk: int
    before_id: int | None
    name: str
    made: datetime
    version: str


def record(session: Session, tempo_map: TempoMap, name: str, on: int | None = None) -> MapStep:
    """Add a step and point the session at it.

    ``on``: the step that the edit was made on; raises :class:`Stale` when the session points elsewhere.
    """
    with transaction.atomic():
        if on is None:
            session.refresh_from_db(fields=["step"])
        elif session.step_id != on:
            raise Stale
        before = session.step
        step = MapStep.objects.create(
            session=session,
            before=before,
            place=before.place + 1 if before else 0,
            name=name[:200],
            map=map_json(tempo_map),
        )
        # in one query with the check that the session still points there: each query costs every edit
        here = Session.objects.filter(pk=session.pk, step=before)
        if not here.update(step=step, touched=timezone.now()):
            raise Stale
    step.remember(tempo_map)
    session.step = step
    return step


def line(session: Session) -> tuple[list[Row], int]:
    """The steps from the first to the last that redo reaches, and the place of the current one (-1: none)."""
    if session.step_id is None:
        return [], -1
    return histories.line([Row(*r) for r in session.steps.values_list(*Row._fields)], session.step_id)


def undo_redo(session: Session, by: int, on: int | None = None) -> bool:
    """Undo (-1) or redo (+1). Whether there was anywhere to go; raises :class:`Stale` like :func:`record`."""
    with transaction.atomic():
        session.refresh_from_db(fields=["step"])
        if on is not None and session.step_id != on:
            raise Stale
        steps, here = line(session)
        there = here + by
        if not 0 <= there < len(steps):
            return False
        session.step_id = steps[there].pk
        session.save(update_fields=["step", "touched"])
    return True


def go_to(session: Session, step: MapStep, on: int | None = None) -> None:
    """Go to any step of the session; raises :class:`Stale` like :func:`record`. Nothing is lost on either side."""
    with transaction.atomic():
        session.refresh_from_db(fields=["step"])
        if on is not None and session.step_id != on:
            raise Stale
        session.step = step
        session.save(update_fields=["step", "touched"])
