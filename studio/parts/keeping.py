"""Making and changing parts: every change is a step that can be undone."""

from django.db import transaction

from core.following.parts import Placed, placed, sounding
from core.formats.smf import Note
from core.instruments.kit import INSTRUMENTS
from core.tempomap import TempoMap
from studio.desk.history import chain
from studio.library.models import Session
from studio.parts.models import Part, PartStep, written

Ties = PartStep.Ties


class Stale(Exception):
    """An edit made on notes that have changed meanwhile."""


@transaction.atomic
def make(
    session: Session,
    name: str,
    instrument: str,
    notes: list[Placed] | list[Note],
    ties: str = Ties.BARS,
    program: int | None = None,
    done: str = "Made",
    beats: int = 0,
) -> Part:
    """A new part of a session that has a map. Its name is numbered where it is taken."""
    taken = set(session.parts.values_list("name", flat=True))
    name = name.strip()[:190] or "Part"
    free, number = name, 2
    while free in taken:
        free, number = f"{name} {number}", number + 1
    if program is None:
        program = INSTRUMENTS[instrument].program if instrument in INSTRUMENTS else 0
    part = Part.objects.create(session=session, name=free, instrument=instrument, program=program, beats=beats)
    _step(part, done, ties, notes, session.step_id)
    return part


def _step(part: Part, name: str, ties: str, notes, tied_on: int) -> None:
    part.step = PartStep.objects.create(
        part=part, before_id=part.step_id, name=name[:200], ties=ties, notes=written(notes), tied_on_id=tied_on
    )
    part.save(update_fields=["step"])


@transaction.atomic
def change(part: Part, name: str, edit, on: int | None = None) -> None:
    """Apply ``edit`` (placed notes to placed notes). Of a part that keeps the clock, the notes it leaves alone stay
    bit-identical. Raises :class:`Stale`, and whatever the edit raises."""
    part.refresh_from_db(fields=["step"])
    if on is not None and on != part.step_id:
        raise Stale
    now = part.step
    tempo_map = part.session.step.tempo_map
    before = now.placed(tempo_map)
    after = edit(before)
    if not now.rides:
        kept = {id(p): n for p, n in zip(before, now.rows(), strict=True)}
        fresh = iter(sounding(tempo_map, [p for p in after if id(p) not in kept]))
        after = [kept[id(p)] if id(p) in kept else next(fresh) for p in after]
    _step(part, name, now.ties, after, now.tied_on_id)


@transaction.atomic
def tie(part: Part, ties: str) -> None:
    """Let a part ride the bars, or keep the clock, from where it sounds now."""
    part.refresh_from_db(fields=["step"])
    if part.step.ties == ties:
        return
    tempo_map: TempoMap = part.session.step.tempo_map
    rows = part.step.rows()
    notes = placed(tempo_map, rows) if ties == Ties.BARS else sounding(tempo_map, rows)
    _step(part, f"It {Ties(ties).label}", ties, notes, part.session.step_id)


def line(part: Part) -> tuple[list[PartStep], int]:
    """The steps from the first to the last that redo reaches, and the place of the current one."""
    return chain(part.steps.defer("notes"), part.step_id)


@transaction.atomic
def travel(part: Part, by: int) -> bool:
    """Undo (-1) or redo (+1). Whether there was anywhere to go."""
    part.refresh_from_db(fields=["step"])
    steps, here = line(part)
    if not 0 <= here + by < len(steps):
        return False
    part.step_id = steps[here + by].pk
    part.save(update_fields=["step"])
    return True
