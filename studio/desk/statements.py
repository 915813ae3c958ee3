"""Statements as rows: each is a mark on the recording."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from core.document import (
    BarLine,
    BarsHere,
    Document,
    Hold,
    MeterHere,
    MusicEnds,
    MusicStarts,
    Right,
    Statement,
    WithoutBeats,
)
from studio.desk.models import Mark
from studio.histories import Renumber, StatePiece
from studio.library.models import Session

Kind = Mark.Kind


def statement_of(mark: Mark) -> Statement | None:
    """What a mark says; None for one that says nothing of the beats (a section, a dismissed doubt)."""
    match Kind(mark.kind):
        case Kind.LINE:
            return BarLine(mark.start, mark.data.get("number"))
        case Kind.BARS:
            return BarsHere(mark.start, mark.end, mark.data["bars"], mark.data.get("meter"))
        case Kind.METER:
            return MeterHere(mark.start, mark.data["meter"], mark.data["only"])
        case Kind.STARTS:
            return MusicStarts(mark.start)
        case Kind.ENDS:
            return MusicEnds(mark.start)
        case Kind.HOLD:
            return Hold(mark.start, mark.end)
        case Kind.FREE:
            return WithoutBeats(mark.start, mark.end)
        case Kind.LOCK:
            rows = (tuple(mark.data.get(name, ())) for name in ("seconds", "bars", "beats"))
            return Right(mark.start, mark.end, *rows)
    return None


def mark_of(session: Session, statement: Statement) -> Mark:
    """The row of a statement, not saved yet."""
    match statement:
        case BarLine(at, number):
            return Mark(session=session, kind=Kind.LINE, start=at, end=at, data={"number": number})
        case BarsHere(start, end, bars, meter):
            return Mark(session=session, kind=Kind.BARS, start=start, end=end, data={"bars": bars, "meter": meter})
        case MeterHere(at, meter, only):
            return Mark(session=session, kind=Kind.METER, start=at, end=at, data={"meter": meter, "only": only})
        case MusicStarts(at):
            return Mark(session=session, kind=Kind.STARTS, start=at, end=at)
        case MusicEnds(at):
            return Mark(session=session, kind=Kind.ENDS, start=at, end=at)
        case Hold(start, end):
            return Mark(session=session, kind=Kind.HOLD, start=start, end=end)
        case WithoutBeats(start, end):
            return Mark(session=session, kind=Kind.FREE, start=start, end=end)
        case Right(start, end, seconds, bars, beats):
            data = {"seconds": list(seconds), "bars": list(bars), "beats": list(beats)}
            return Mark(session=session, kind=Kind.LOCK, start=start, end=end, data=data)


def document_of(session: Session) -> Document:
    """The session's map with what was said of it."""
    statements = [s for m in session.marks.all() if (s := statement_of(m)) is not None]
    return Document(session.step.tempo_map if session.step else None, tuple(statements))


def save_statements(session: Session, statements: Iterable[Statement]) -> None:
    """Make the session's rows those of ``statements``; rows of statements that stay are left alone."""
    wanted = list(statements)
    for mark in session.marks.all():
        statement = statement_of(mark)
        if statement is None:
            continue
        if statement in wanted:
            wanted.remove(statement)
        else:
            mark.delete()
    for statement in wanted:
        mark_of(session, statement).save()


# ---- marks as a piece of the history

_FIELDS = ("pk", "kind", "name", "start", "end", "colour", "data")


def _take(session: Session) -> list[list[Any]]:
    return [list(row) for row in Mark.objects.filter(session=session).order_by("pk").values_list(*_FIELDS)]


def _restore(session: Session, data: list[list[Any]]) -> None:
    """Marks keep their keys, as the running order names them."""
    kept = [row[0] for row in data]
    session.marks.exclude(pk__in=kept).delete()
    for row in data:
        values = dict(zip(_FIELDS, row, strict=True))
        Mark.objects.update_or_create(pk=values.pop("pk"), defaults={**values, "session": session})


def _renumber(data: list[list[Any]], new: Renumber) -> list[list[Any]]:
    return [[new("desk.mark", pk), *values] for pk, *values in data]


MARKS = StatePiece("marks", _take, _restore, renumber=_renumber)


def answer(session: Session, doubt: str) -> None:
    """A doubt of this kind about the whole take is answered: it is not asked again. The caller makes the step."""
    Mark.objects.create(session=session, kind=Kind.FINE, name=doubt, start=0.0, end=session.seconds)
