"""Chords as the page sees them: the lane, the panel, and what is made of them."""

import csv
import io
from dataclasses import replace

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from core.errors import InputError
from core.harmony.chord_line import GRAINS, VOICINGS, TimedChord, is_unsure, with_chord
from core.harmony.chords import Chord
from core.tempomap.position import position_at
from studio.harmony import chord_history
from studio.harmony.chord_history import harmony_of, snapped
from studio.harmony.models import Harmony
from studio.harmony.work import CHORDS
from studio.inputs import Body, Key, Seconds, read_body
from studio.jobs.queue import start
from studio.library.lookup import with_map
from studio.library.models import Session
from studio.parts.models import Part
from studio.parts.views import panel_answer
from studio.reshaping.result import in_clock
from studio.responses import json_response

STALE = "The chords were changed in another window. They are shown as they are now; make your edit again."


def _lane(session: Session, error: str | None = None, status: int = 200) -> HttpResponse:
    return _answer(session, harmony_of(session), snapped(session), error, status)


def _answer(
    session: Session,
    harmony: Harmony | None,
    timed: list[TimedChord],
    error: str | None = None,
    status: int = 200,
) -> HttpResponse:
    end = float(session.tempo_map.seconds[-1])
    return json_response(
        {
            "error": error,
            "step": harmony.step_id if harmony else None,
            "at": [s.seconds for s in timed],
            "end": [s.seconds for s in timed[1:]] + [end] * bool(timed),
            "text": [str(s.chord) for s in timed],
            "sure": [s.confidence for s in timed],
            "unsure": [is_unsure(s) for s in timed],
        },
        status=status,
    )


@require_GET
def chords(request: HttpRequest, pk: int) -> HttpResponse:
    """The chords where they stand under the current map."""
    session = with_map(pk)
    harmony, timed = harmony_of(session), snapped(session)
    if result := in_clock(request, session):
        timed = [replace(c, seconds=float(result.plan.clock.to_target(c.seconds))) for c in timed]
    return _answer(session, harmony, timed)


@require_POST
def find(request: HttpRequest, pk: int) -> HttpResponse:
    session = with_map(pk)
    start(session, CHORDS)
    return _panel(request, session, started=True)


class ChordEdit(Body):
    """A chord's symbol for the beat nearest to ``at``; ``step``: the page's state of the chords."""

    step: Key | None = None
    at: Seconds
    text: str = Field("", max_length=100)


@require_POST
def edit(request: HttpRequest, pk: int) -> HttpResponse:
    """Write a chord at the beat or bar nearest to ``at`` (an empty ``text`` takes the one there away)."""
    arguments = read_body(request, ChordEdit)
    text = arguments.text.strip()
    try:
        chord = Chord.parse(text) if text else None
    except InputError as e:
        return _lane(with_map(pk), str(e), 422)
    with transaction.atomic():  # from the look at the step to the new one nobody else writes
        session = with_map(pk)
        harmony = harmony_of(session) or Harmony.objects.create(session=session)
        if arguments.step != harmony.step_id:
            return _lane(session, STALE, 409)
        timed = harmony.step.timed_chords() if harmony.step else []
        after = with_chord(timed, session.tempo_map, harmony.grain, arguments.at, chord)
        chord_history.record(harmony, f"Wrote {chord}" if chord else "Took a chord away", after)
    return _lane(with_map(pk))


def _panel(request: HttpRequest, session: Session, started: bool = False, message: str = "") -> HttpResponse:
    harmony = harmony_of(session)
    cents = harmony.cents if harmony else 0.0
    context = {
        "session": session,
        "harmony": harmony,
        "started": started,
        "message": message,
        "sharp": abs(cents),
        "reference": 440 * 2 ** (cents / 1200),
        "voicings": VOICINGS,
        "unsure": sum(is_unsure(s) for s in snapped(session)),
    }
    return render(request, "harmony/panel.html", context)


@require_GET
def panel(request: HttpRequest, pk: int) -> HttpResponse:
    return _panel(request, with_map(pk))


@require_POST
def grain(request: HttpRequest, pk: int) -> HttpResponse:
    """Let the chords stand on beats or on bars. What was found is kept, so that one can go back."""
    session = with_map(pk)
    harmony = harmony_of(session)
    if harmony and request.POST.get("grain") in GRAINS:
        chord_history.stand_on(harmony, request.POST["grain"])
    out = _panel(request, session)
    out["HX-Trigger"] = "chords-changed"
    return out


@require_POST
def make_part(request: HttpRequest, pk: int) -> HttpResponse:
    """A part from the chords, in a ``voicing``: it rides the bars, and follows the chords while nobody changes it."""
    session = with_map(pk)
    voicing = request.POST.get("voicing", "pad")
    if voicing not in VOICINGS:
        return _panel(request, session, message="There is no such part.")
    part = chord_history.make(session, voicing)
    if part is None:
        return _panel(request, session, message="There are no chords yet.")
    out = _panel(request, session, message=f"{part.name} is among the parts now, and follows the chords.")
    out["HX-Trigger"] = "parts-changed"
    return out


@require_POST
def take_again(request: HttpRequest, pk: int) -> HttpResponse:
    """A part that was made from the chords, and changed by hand since, takes them as they are now."""
    part = get_object_or_404(Part.objects.select_related("session__step", "step"), pk=pk, voicing__in=VOICINGS)
    chord_history.take_again(part)
    return panel_answer(request, part.session)


@require_GET
def table(request: HttpRequest, pk: int) -> HttpResponse:
    """One line a chord: its place in the bars, its seconds, its symbol, and how sure it is."""
    session = with_map(pk)
    out = io.StringIO()
    write = csv.writer(out)
    write.writerow(["place", "seconds", "chord", "confidence"])
    for s in snapped(session):
        sure = "" if s.confidence is None else f"{s.confidence:.2f}"
        write.writerow([position_at(session.tempo_map, s.seconds), f"{s.seconds:.6f}", str(s.chord), sure])
    headers = {"Content-Disposition": 'attachment; filename="chords.csv"'}
    return HttpResponse(out.getvalue(), content_type="text/csv; charset=utf-8", headers=headers)
