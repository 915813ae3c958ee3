"""Undo and redo: a session points at one step of its history; edits add steps, nothing removes them."""

from django.db import transaction
from django.utils import timezone

from core.tempomap import TempoMap
from studio.desk.models import MapStep, written
from studio.library.models import Session


class Stale(Exception):
    """An edit that was made on a map which has changed meanwhile."""


def record(
    session: Session, tempo_map: TempoMap, name: str, on: int | None = None, finding: dict | None = None
) -> MapStep:
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
            map=written(tempo_map),
        )
        kept = {} if finding is None else {"finding": finding}
        # in one stroke with the question whether the session still points there: each query costs every edit
        here = Session.objects.filter(pk=session.pk, step=before)
        if not here.update(step=step, touched=timezone.now(), **kept):
            raise Stale
    step.remember(tempo_map)
    session.step = step
    return step


def line(session: Session) -> tuple[list, int]:
    """The steps from the first to the last that redo reaches, and the place of the current one (-1: none).

    Rows with pk, before_id, name, made and version: a session may have hundreds.
    """
    if session.step_id is None:
        return [], -1
    rows = session.steps.values_list("pk", "before_id", "name", "made", "version", named=True)
    return chain(rows, session.step_id)


def chain(rows, here: int) -> tuple[list, int]:
    """Steps (anything with ``pk`` and ``before_id``, oldest first) in the order in which undo and redo pass them,
    and the place of the one whose key is ``here``."""
    steps = {s.pk: s for s in rows}
    child = {s.before_id: s for s in steps.values()}  # the newest wins, as steps are in order
    past, s = [], steps[here]
    while s:
        past.append(s)
        s = steps.get(s.before_id)
    past.reverse()
    future, s = [], child.get(here)
    while s:
        future.append(s)
        s = child.get(s.pk)
    return past + future, len(past) - 1


def go(session: Session, by: int, on: int | None = None) -> bool:
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
