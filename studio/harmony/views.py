"""Chords as the page sees them: the lane, the panel, and what is made of them."""

import csv
import io
import json

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET, require_POST

from core.following.chordline import GRAINS, Spot, as_pad, standing, written
from core.following.chords import Chord
from core.tempomap.position import position_at
from studio.desk.answers import answer
from studio.desk.history import chain
from studio.harmony.models import Harmony, record
from studio.jobs.models import Job
from studio.jobs.tasks import start
from studio.library.lookup import with_map
from studio.library.models import Session
from studio.parts import keeping

STALE = "The chords were changed in another window. They are shown as they are now; make your edit again."


def _session(pk) -> Session:
    return with_map(pk, "harmony", "harmony__step")


def _harmony(session: Session) -> Harmony | None:
    return getattr(session, "harmony", None)


def _standing(session: Session) -> list[Spot]:
    harmony = _harmony(session)
    if harmony is None or harmony.step is None:
        return []
    return standing(harmony.step.spots(), session.step.tempo_map, harmony.grain)


def _lane(session: Session, error: str | None = None, status: int = 200):
    harmony, spots = _harmony(session), _standing(session)
    end = float(session.step.tempo_map.seconds[-1])
    return answer(
        {
            "error": error,
            "step": harmony.step_id if harmony else None,
            "at": [s.seconds for s in spots],
            "end": [s.seconds for s in spots[1:]] + [end] * bool(spots),
            "text": [str(s.chord) for s in spots],
            "sure": [s.confidence for s in spots],
        },
        status=status,
    )


@require_GET
def chords(request, pk):
    """The chords where they stand under the current map."""
    return _lane(_session(pk))


@require_POST
def find(request, pk):
    session = _session(pk)
    start(session, Job.Kind.CHORDS)
    return _panel(request, session, started=True)


@require_POST
def edit(request, pk):
    """Write a chord at the beat or bar nearest to ``at`` (an empty ``text`` takes the one there away), undo or redo."""
    session = _session(pk)
    said = json.loads(request.body)
    harmony = _harmony(session) or Harmony.objects.create(session=session)
    if said.get("step") != harmony.step_id:
        return _lane(session, STALE, 409)
    if "travel" in said:
        steps, here = chain(harmony.steps.defer("chords"), harmony.step_id) if harmony.step_id else ([], -1)
        to = here + int(said["travel"])
        if 0 <= to < len(steps):
            harmony.step_id = steps[to].pk
            harmony.save(update_fields=["step"])
        return _lane(_session(pk))
    text = str(said.get("text", "")).strip()
    try:
        chord = Chord.parse(text) if text else None
    except ValueError as e:
        return _lane(session, str(e), 422)
    spots = harmony.step.spots() if harmony.step else []
    after = written(spots, session.step.tempo_map, harmony.grain, float(said["at"]), chord)
    record(harmony, f"Wrote {chord}" if chord else "Took a chord away", after)
    return _lane(_session(pk))


def _panel(request, session: Session, started: bool = False, said: str = "") -> HttpResponse:
    harmony = _harmony(session)
    cents = harmony.cents if harmony else 0.0
    context = {
        "session": session,
        "harmony": harmony,
        "started": started,
        "said": said,
        "sharp": abs(cents),
        "reference": 440 * 2 ** (cents / 1200),
        "doubtful": sum(s.confidence is not None and s.confidence < 0.7 for s in _standing(session)),
    }
    return render(request, "harmony/panel.html", context)


@require_GET
def panel(request, pk):
    return _panel(request, _session(pk))


@require_POST
def grain(request, pk):
    """Let the chords stand on beats or on bars. What was found is kept, so that one can go back."""
    session = _session(pk)
    harmony = _harmony(session)
    if harmony and request.POST.get("grain") in GRAINS:
        harmony.grain = request.POST["grain"]
        harmony.save(update_fields=["grain"])
    out = _panel(request, session)
    out["HX-Trigger"] = "chords-changed"
    return out


@require_POST
def pad(request, pk):
    """Hand the chords to a pad: a part that rides the bars."""
    session = _session(pk)
    notes = as_pad(_standing(session), session.step.tempo_map)
    if not notes:
        return _panel(request, session, said="There are no chords yet.")
    keeping.make(session, "Pad", "pad", notes, done="From the chords")
    out = _panel(request, session, said="The pad is among the parts now.")
    out["HX-Trigger"] = "parts-changed"
    return out


@require_GET
def table(request, pk):
    """One line a chord: its place in the bars, its seconds, its symbol, and how sure it is."""
    session = _session(pk)
    out = io.StringIO()
    write = csv.writer(out)
    write.writerow(["place", "seconds", "chord", "confidence"])
    for s in _standing(session):
        sure = "" if s.confidence is None else f"{s.confidence:.2f}"
        write.writerow([position_at(session.step.tempo_map, s.seconds), f"{s.seconds:.6f}", str(s.chord), sure])
    headers = {"Content-Disposition": 'attachment; filename="chords.csv"'}
    return HttpResponse(out.getvalue(), content_type="text/csv; charset=utf-8", headers=headers)
