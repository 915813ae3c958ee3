"""Every change of a session's chords: a step of their own history, and the parts that were made from them follow."""

from collections.abc import Sequence

import orjson
from django.db import transaction

from core.harmony.chord_line import VOICINGS, TimedChord, snapped_chords
from studio.harmony.models import ChordStep, Harmony
from studio.histories import changed
from studio.library.models import Session
from studio.parts import part_history
from studio.parts.models import Part

#: The name of a part's step that holds what the chords say, and nothing done by hand.
FROM_CHORDS = "From the chords"


def harmony_of(session: Session) -> Harmony | None:
    return Harmony.objects.select_related("step").filter(session=session).first()


def snapped(session: Session) -> list[TimedChord]:
    """The chords where they stand under the current map."""
    harmony = harmony_of(session)
    if harmony is None or harmony.step is None:
        return []
    return snapped_chords(harmony.step.timed_chords(), session.tempo_map, harmony.grain)


@transaction.atomic
def record(harmony: Harmony, name: str, chords: Sequence[TimedChord]) -> None:
    """Add a step and make it the current one."""
    rows = [[s.seconds, str(s.chord), s.confidence] for s in chords]
    harmony.step = ChordStep.objects.create(
        harmony=harmony, before_id=harmony.step_id, name=name[:200], chords=orjson.dumps(rows).decode()
    )
    harmony.save(update_fields=["step", "cents", "key"])
    follow(harmony.session)
    changed(harmony.session, name)


@transaction.atomic
def stand_on(harmony: Harmony, grain: str) -> None:
    """Let the chords stand on beats or on bars. What was found is kept, so that one can go back."""
    harmony.grain = grain
    harmony.save(update_fields=["grain"])
    follow(harmony.session)
    changed(harmony.session, f"Chords on {grain}s")


def make(session: Session, voicing: str) -> Part | None:
    """A part from the chords, one of :data:`VOICINGS`; None where there are no chords."""
    notes = VOICINGS[voicing](snapped(session), session.tempo_map)
    if not notes:
        return None
    return part_history.make(session, voicing.capitalize(), voicing, notes, done=FROM_CHORDS, voicing=voicing)


def follow(session: Session) -> None:
    """The parts that were made from the chords take them over, but for those that were changed by hand since. The
    caller tells of the change."""
    if session.step_id is None:
        return
    made = session.parts.exclude(voicing="").select_related("step")
    timed = snapped(session) if made else []
    for part in made:
        if part.voicing in VOICINGS and part.now.name == FROM_CHORDS and part.now.rides:
            part_history.renew(part, FROM_CHORDS, VOICINGS[part.voicing](timed, session.tempo_map))


def take_again(part: Part) -> None:
    """A part takes the chords as they are now, whatever was changed in it: a step that can be undone."""
    notes = VOICINGS[part.voicing](snapped(part.session), part.session.tempo_map)
    with transaction.atomic():
        part_history.renew(part, FROM_CHORDS, notes)
        changed(part.session, f"{part.name}: {FROM_CHORDS}")
