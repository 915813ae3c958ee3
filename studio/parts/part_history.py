"""Making and changing parts: every change is a step that can be undone."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

from django.db import transaction

from core.formats.song import Song
from core.instruments.kit import INSTRUMENTS, instrument_for
from core.notes import Note, ScoreNote, to_seconds
from core.parts.roll import validate
from studio.histories import Renumber, Stale, StatePiece, changed
from studio.library.models import Session
from studio.parts.models import Part, PartStep, notes_json

Ties = PartStep.Ties


@transaction.atomic
def make(
    session: Session,
    name: str,
    instrument: str,
    notes: Sequence[ScoreNote] | Sequence[Note],
    ties: str = Ties.BARS,
    program: int | None = None,
    done: str = "Made",
    beats: int = 0,
    voicing: str = "",
) -> Part:
    """A new part of a session that has a map. Its name is numbered where it is taken."""
    taken = set(session.parts.values_list("name", flat=True))
    name = name.strip()[:190] or "Part"
    free, number = name, 2
    while free in taken:
        free, number = f"{name} {number}", number + 1
    if program is None:
        program = INSTRUMENTS[instrument].program if instrument in INSTRUMENTS else 0
    part = Part.objects.create(
        session=session, name=free, instrument=instrument, program=program, beats=beats, voicing=voicing
    )
    _step(part, done, ties, notes, session.step_id)
    return part


def make_all(session: Session, song: Song, name: str, by_bars: bool = True, at: int = 1) -> None:
    """A part for each instrument of a MIDI file called ``name``: riding the bars, its bar 1 at bar ``at``, or in its
    own seconds."""
    for p in song.parts:
        moved = [replace(n, bar=n.bar + at - 1) for n in p.score_notes]
        notes, ties = (moved, Ties.BARS) if by_bars else (p.notes, Ties.CLOCK)
        make(session, p.name, instrument_for(p.program, p.channel), notes, ties, p.program, f"From {name}")


def _step(part: Part, name: str, ties: str, notes: Sequence[ScoreNote] | Sequence[Note], tied_on: int | None) -> None:
    _set_step(part, name, ties, notes, tied_on)
    changed(part.session, f"{part.name}: {name}")


def renew(part: Part, name: str, notes: Sequence[ScoreNote]) -> None:
    """A step with other notes that ride the bars, as a consequence of something else: the caller tells of that."""
    _set_step(part, name, Ties.BARS, notes, part.session.step_id)


def _set_step(
    part: Part, name: str, ties: str, notes: Sequence[ScoreNote] | Sequence[Note], tied_on: int | None
) -> None:
    assert tied_on is not None  # parts are made on a map
    validate(notes)
    part.step = PartStep.objects.create(
        part=part, before_id=part.step_id, name=name[:200], ties=ties, notes=notes_json(notes), tied_on_id=tied_on
    )
    part.save(update_fields=["step"])


@transaction.atomic
def change(part: Part, name: str, edit: Callable[[list[ScoreNote]], list[ScoreNote]], on: int | None = None) -> None:
    """Apply ``edit`` (score notes to score notes). Of a part that keeps the clock, the notes it leaves alone stay
    bit-identical. Raises :class:`Stale`, and whatever the edit raises."""
    part.refresh_from_db(fields=["step"])
    if on is not None and on != part.step_id:
        raise Stale
    now = part.now
    tempo_map = part.session.tempo_map
    before = now.score_notes(tempo_map)
    after = edit(before)
    if now.rides:
        _step(part, name, now.ties, after, now.tied_on_id)
        return
    stored = {id(p): n for p, n in zip(before, now.notes_in_seconds(tempo_map), strict=True)}
    fresh = iter(to_seconds(tempo_map, [p for p in after if id(p) not in stored]))
    notes = [stored[id(p)] if id(p) in stored else next(fresh) for p in after]
    _step(part, name, now.ties, notes, now.tied_on_id)


@transaction.atomic
def tie(part: Part, ties: str) -> None:
    """Let a part ride the bars, or keep the clock, from where it sounds now."""
    part.refresh_from_db(fields=["step"])
    if part.now.ties == ties:
        return
    tempo_map = part.session.tempo_map
    name, on = f"It {Ties(ties).label}", part.session.step_id
    if ties == Ties.BARS:
        _step(part, name, ties, part.now.score_notes(tempo_map), on)
    else:
        _step(part, name, ties, part.now.notes_in_seconds(tempo_map), on)


# ---- parts as a piece of the history

_FIELDS = ("pk", "name", "instrument", "gain", "muted", "solo", "gone", "step_id", "pan", "program", "voicing")


def _take(session: Session) -> list[list[Any]]:
    return [list(row) for row in Part.objects.filter(session=session).values_list(*_FIELDS)]


def _restore(session: Session, data: list[list[Any]]) -> None:
    """Parts that were made later are taken out, not lost."""
    session.parts.exclude(pk__in=[row[0] for row in data]).update(gone=True)
    for pk, *values in data:
        session.parts.filter(pk=pk).update(
            **dict(zip(_FIELDS[1:], values, strict=False))
        )  # steps of long ago knew fewer


def _renumber(data: list[list[Any]], new: Renumber) -> list[list[Any]]:
    at = _FIELDS.index("step_id")
    return [
        [
            new("parts.part", pk),
            *values[: at - 1],
            None if values[at - 1] is None else new("parts.partstep", values[at - 1]),
            *values[at:],
        ]
        for pk, *values in data
    ]


PARTS = StatePiece("parts", _take, _restore, renumber=_renumber)
