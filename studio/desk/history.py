"""The one history of a session: everything that the engineer does is a step, and a session points at one of them.

Steps are added, never changed or removed. Each holds the whole document: the map, and every piece of the session's
state that the apps contribute (:mod:`studio.histories`).
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from itertools import pairwise
from typing import Any, NamedTuple

import orjson
from django.db import transaction
from django.utils import timezone

from core.document import Statement
from core.tempomap import TempoMap
from studio import histories
from studio.desk import pieces
from studio.desk.models import MapStep
from studio.desk.statements import save_statements
from studio.histories import PIECES, Stale
from studio.library.models import Session

#: The name of the step that a search makes.
FOUND = "Beats found"
#: So many searches are looked at for what the engineer made of them.
_SEARCHES = 8
#: A gesture goes on within so many seconds.
_SAME_GESTURE = 2.0


class Row(NamedTuple):
    """A step without its content: a session may have thousands."""

    pk: int
    before_id: int | None
    name: str
    made: datetime
    version: str
    by: str


def state_of(session: Session) -> tuple[dict[str, str], dict[str, bytes]]:
    """The session's state beside the map as it is now: digests by name of the piece, and the pieces by digest."""
    digests: dict[str, str] = {}
    data: dict[str, bytes] = {}
    for piece in PIECES:
        digest, text = pieces.json_bytes(piece.take(session))
        digests[piece.name] = digest
        data[digest] = text
    return digests, data


def record(
    session: Session,
    tempo_map: TempoMap,
    name: str,
    on: int | None = None,
    statements: Sequence[Statement] | None = None,
) -> MapStep:
    """Add a step with a map and everything else as it is now, and point the session at it.

    ``on``: the step that the edit was made on; raises :class:`Stale` when the session points elsewhere.
    ``statements``: what has been said after it; None: as before.
    """
    with transaction.atomic():
        _read_again(session)
        if on is not None and session.step_id != on:
            raise Stale
        if statements is not None:
            save_statements(session, statements)
        step = _add(session, tempo_map, name, session.step)
    return step


def _read_again(session: Session) -> None:
    """Where the session points now. No other transaction moves it until this one ends: SQLite lets one write at a time,
    PostgreSQL locks the row."""
    here = Session.everything.select_for_update(no_key=True).values_list("step_id", flat=True)
    session.step_id = here.get(pk=session.pk)


def _add(session: Session, tempo_map: TempoMap, name: str, before: MapStep | None) -> MapStep:
    cut, chunks = pieces.cut_map(tempo_map)
    state, data = state_of(session)
    pieces.keep(session, {**chunks, **data})
    step = MapStep.objects.create(
        session=session,
        before=before,
        place=before.place + 1 if before else 0,
        name=name[:200],
        content=orjson.dumps({"map": cut, "state": state}).decode(),
    )
    # the row is locked by now; should it point elsewhere all the same, nothing is written
    here = Session.objects.filter(pk=session.pk, step=session.step_id)
    if not here.update(step=step, touched=timezone.now()):
        raise Stale
    step.remember(tempo_map)
    histories.recorded.set((session.step_id, step.pk))
    session.step = step
    return step


def changed(session: Session, name: str, gesture: bool = False) -> None:
    """Something beside the map was changed: a step, where the session has a map. What changes nothing makes none."""
    with transaction.atomic():
        now = Session.objects.select_for_update(of=("self",), no_key=True).select_related("step").get(pk=session.pk)
        if now.step is None:
            return
        if now.step.content and now.step.state == state_of(now)[0]:
            return
        step = now.step
        same = gesture and step.name == name[:200] and not step.version and step.before_id is not None
        recent = (timezone.now() - step.made).total_seconds() < _SAME_GESTURE
        _add(now, step.tempo_map, name, step.before if same and recent else step)
        session.step = now.step


def keep_aside(session: Session, tempo_map: TempoMap, name: str, before: MapStep, version: str = "") -> MapStep:
    """A map beside the line of steps, as a named ``version`` that can be compared and gone to."""
    cut, chunks = pieces.cut_map(tempo_map)
    pieces.keep(session, chunks)
    return MapStep.objects.create(
        session=session,
        before=before,
        place=before.place + 1,
        name=name,
        version=(version or f"{name} while you were editing")[:100],
        content=orjson.dumps({"map": cut, "state": {}}).decode(),
    )


def same_map(session: Session, step: int | None) -> bool:
    """Whether the session's current step has the same map as an earlier ``step``: only other things changed since."""
    if step == session.step_id:
        return True
    if step is None or session.step is None:
        return False
    old = session.steps.filter(pk=step).first()
    if old is None or not old.content or not session.step.content:
        return False
    return bool(old.map_content == session.step.map_content)


def line(session: Session) -> tuple[list[Row], int]:
    """The steps from the first to the last that redo reaches, and the place of the current one (-1: none)."""
    return histories.line(_rows(session), session.step_id)


def line_and_aside(session: Session) -> tuple[list[Row], int, list[Row]]:
    """:func:`line`, and the ends of lines that were left by an undo and another edit, the newest first: redo does not
    reach them any more, but nothing of them is lost."""
    rows = _rows(session)
    steps, here = histories.line(rows, session.step_id)
    on_line = {s.pk for s in steps}
    gone_on = {r.before_id for r in rows}
    return steps, here, [r for r in reversed(rows) if r.pk not in gone_on | on_line and not r.version]


def searches(session: Session) -> list[tuple[TempoMap, TempoMap]]:
    """The map that each of the last searches found, and what had become of it before the next one (or now), the latest
    last."""
    steps, here = line(session)
    steps = steps[: here + 1]
    found = [k for k, row in enumerate(steps) if row.name == FOUND][-_SEARCHES:]
    pairs = [(steps[a].pk, steps[b - 1].pk) for a, b in pairwise([*found, len(steps)])]
    maps = {step.pk: step.tempo_map for step in session.steps.filter(pk__in={pk for pair in pairs for pk in pair})}
    return [(maps[a], maps[b]) for a, b in pairs]


def _rows(session: Session) -> list[Row]:
    return [Row(*r) for r in session.steps.values_list(*Row._fields)] if session.step_id else []


def undo_redo(session: Session, by: int, on: int | None = None) -> bool:
    """Undo (-1) or redo (+1). Whether there was anywhere to go; raises :class:`Stale` like :func:`record`."""
    with transaction.atomic():
        _read_again(session)
        if on is not None and session.step_id != on:
            raise Stale
        steps, here = line(session)
        there = here + by
        if not 0 <= there < len(steps):
            return False
        _point_at(session, MapStep.objects.get(pk=steps[there].pk))
    return True


def go_to(session: Session, step: MapStep, on: int | None = None) -> None:
    """Go to any step of the session; raises :class:`Stale` like :func:`record`. Nothing is lost on either side."""
    with transaction.atomic():
        _read_again(session)
        if on is not None and session.step_id != on:
            raise Stale
        _point_at(session, step)


def _point_at(session: Session, step: MapStep) -> None:
    now = state_of(session)[0]
    wanted = {name: digest for name, digest in step.state.items() if now.get(name) != digest}
    data: dict[str, Any] = pieces.fetch(session.pk, list(wanted.values()))
    Session.objects.filter(pk=session.pk).update(step=step, touched=timezone.now())
    session.step = step
    for piece in PIECES:
        if piece.name in wanted:
            piece.restore(session, orjson.loads(data[wanted[piece.name]]))
        elif piece.is_new and step.state and piece.name not in step.state:  # a map put aside holds no state at all
            piece.restore(session, None)
