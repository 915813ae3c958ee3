"""Checking a map: its doubts as it stands now, marks on the recording, versions and how they differ."""

import json
import threading
from functools import lru_cache

import numpy as np
from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from django.template.loader import render_to_string
from django.views.decorators.http import require_GET, require_POST

from core.beats import NoBeats
from core.beats.doubt import WHOLE
from core.beats.review import review
from core.tempomap import TempoMap
from core.tempomap.edits import pins_of
from studio.desk.answers import answer
from studio.desk.models import MapStep, Mark
from studio.library.hearing import scene
from studio.library.models import Session

#: Looking again takes a whole core for a moment; edits go first.
_ONE_AT_A_TIME = threading.Lock()


@lru_cache(maxsize=32)
def _reviewed(step: MapStep, heard: int, usual: tuple[float, float]) -> list[dict]:
    try:
        return [d.to_json() for d in review(scene(step.session), step.tempo_map, usual)[1]]
    except NoBeats:
        return []


def doubts_of(session: Session) -> list[dict]:
    """Open doubts about the session's map: all that no pin, lock, hold or dismissal settles.

    Those about the whole take come first, then the gravest.
    """
    if session.step is None:
        return []
    heard = session.tracks.filter(heard=True).count()
    found = _reviewed(session.step, heard, (session.slowest, session.fastest))
    tempo_map, marks = session.step.tempo_map, list(session.marks.all())
    pinned = tempo_map.seconds[pins_of(tempo_map)]
    left = [d for d in found if not _settled(d, pinned, marks)]
    return sorted(left, key=lambda d: (d["kind"] not in WHOLE, -d["severity"], d["start"]))


#: What a hold explains: a long beat, and that nothing marks the beats around it.
_OF_A_HOLD = ("hold", "jump", "weak", "no-attack")


def _settled(doubt: dict, pinned: np.ndarray, marks: list[Mark]) -> bool:
    """Whether the engineer has spoken: a pin among its beats (one about the whole take needs more), or a mark."""
    start, end = doubt["start"], doubt["end"]
    if doubt["kind"] not in WHOLE and ((pinned >= start) & (pinned <= end)).any():
        return True
    for m in marks:
        if m.kind == Mark.Kind.FINE and m.name == doubt["kind"] and start < m.end and m.start < end:
            return True
        within = m.start - 1e-6 <= start and end <= m.end + 1e-6
        if m.kind in (Mark.Kind.LOCK, Mark.Kind.FREE) and within:
            return True
        if m.kind == Mark.Kind.HOLD and doubt["kind"] in _OF_A_HOLD and m.start - 1 <= start and end <= m.end + 1:
            return True
    return False


@require_GET
def doubts(request, pk) -> HttpResponse:
    """Open doubts as data for the canvases and as the list beside them; their number is kept for the library."""
    with _ONE_AT_A_TIME:
        session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
        if request.GET.get("step") not in (None, str(session.step_id)):
            return answer({"step": None})  # an edit was faster; the page asks again
        found = doubts_of(session)
    if session.step and session.step.doubts != len(found):
        MapStep.objects.filter(pk=session.step_id).update(doubts=len(found))
    found = [
        {
            **d,
            "whole": d["kind"] in WHOLE,
            "remedies": [{**r, "json": json.dumps(r["edit"])} for r in d["remedies"][:3]],
        }
        for d in found
    ]
    first = len(session.finding.get("doubts", []))
    counts = {s: sum(d["severity"] == s for d in found) for s in (3, 2, 1)}
    html = render_to_string(
        "desk/panels/doubts.html",
        {"doubts": found, "counts": counts, "settled": max(0, first - len(found)), "all": max(first, len(found))},
    )
    return answer({"step": session.step_id, "list": found, "html": html})


# ---- marks

#: Colours that the page has for sections.
COLOURS = 5


def marks_of(session: Session) -> list[dict]:
    """Marks as drawn: ends on the nearest bar lines (sections) or beats of the map as it is now."""
    tempo_map = session.step.tempo_map if session.step else None
    out = []
    for m in session.marks.exclude(kind=Mark.Kind.FINE):
        start, end = m.start, m.end
        if tempo_map is not None:
            start, end = _on_the_map(tempo_map, m)
        words = m.words(tempo_map) if tempo_map is not None else ""
        out.append(
            {"id": m.pk, "kind": m.kind, "name": m.name, "start": start, "end": end, "words": words, "colour": m.colour}
        )
    return out


def _on_the_map(tempo_map: TempoMap, mark: Mark) -> tuple[float, float]:
    beats = tempo_map.beats()
    lines = beats.seconds
    if mark.kind == Mark.Kind.SECTION:
        first, last = tempo_map.bar_range
        lines = tempo_map.bar_seconds(np.arange(first, last + 2))
    nearest = [float(lines[int(np.argmin(np.abs(lines - t)))]) for t in (mark.start, mark.end)]
    return (nearest[0], nearest[1]) if nearest[1] > nearest[0] else (mark.start, mark.end)


@require_GET
def marks(request, pk) -> HttpResponse:
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    return answer({"marks": marks_of(session)})


@require_POST
def mark(request, pk) -> HttpResponse:
    """Set, rename, recolour or (``remove``) take away a mark."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    said = json.loads(request.body)
    if "remove" in said:
        session.marks.filter(pk=said["remove"]).delete()
        return answer({"marks": marks_of(session)})
    if "rename" in said:
        session.marks.filter(pk=said["rename"]).update(name=str(said.get("name", ""))[:100].strip())
        return answer({"marks": marks_of(session)})
    if "recolour" in said:
        session.marks.filter(pk=said["recolour"]).update(colour=int(said["colour"]) % COLOURS)
        return answer({"marks": marks_of(session)})
    kind = said.get("kind")
    if kind not in Mark.Kind.values:
        return answer({"error": "There is no such mark."}, status=422)
    start, end = sorted(float(x) for x in said["stretch"])
    if end - start < 0.01:
        return answer({"error": "Choose a stretch first: drag along the time above the bars."}, status=422)
    name = str(said.get("name", ""))[:100].strip()
    if kind == Mark.Kind.SECTION and not name:
        name = f"Section {session.marks.filter(kind=kind).count() + 1}"
    new = Mark(session=session, kind=kind, name=name, start=start, end=end)
    if kind == Mark.Kind.SECTION:
        new.colour = session.marks.filter(kind=kind).count() % COLOURS
    if session.step and kind != Mark.Kind.FINE:
        new.start, new.end = _on_the_map(session.step.tempo_map, new)
    new.save()
    return answer({"marks": marks_of(session)})


# ---- versions


@require_POST
def name_version(request, pk) -> HttpResponse:
    """Give the current step (or ``step``) a name to find it by, or with an empty name forget it."""
    session = get_object_or_404(Session, pk=pk)
    said = json.loads(request.body)
    step = get_object_or_404(session.steps, pk=said.get("step") or session.step_id)
    step.version = str(said.get("name", "")).strip()[:100]
    step.save(update_fields=["version"])
    return answer({"ok": True})


@require_GET
def compare(request, pk, step) -> HttpResponse:
    """How another step's beats differ: for each beat of the current map the distance to the nearest beat there."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    other = get_object_or_404(session.steps, pk=step)
    here, there = session.step.tempo_map.beats().seconds, other.tempo_map.beats().seconds
    j = np.clip(np.searchsorted(there, here), 1, len(there) - 1)
    off = np.where(here - there[j - 1] < there[j] - here, there[j - 1], there[j]) - here
    return answer(
        {
            "name": other.version or other.name,
            "time": here.round(6),
            "ms": (1000 * off).round(3),
            "beats": [len(here), len(there)],
        }
    )
