"""Doubts about the map as it stands now."""

import json
import threading
from collections.abc import Hashable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.template.loader import render_to_string
from django.views.decorators.http import require_GET
from numpy.typing import NDArray

from core.editing.elsewhere import Correction, correction_of, elsewhere
from core.editing.remedies import trusted
from core.listening.track import Progress, no_progress
from core.tempomap.edits import pins_of
from core.tracking.context import NoBeats
from core.tracking.doubts.doubt import LISTEN, WHOLE, Doubt
from core.tracking.doubts.settled import Settlement, is_settled
from core.tracking.review import review
from studio.analysis.features import context, context_key
from studio.analysis.models import latest
from studio.caches import remembered
from studio.desk.commands import command_json
from studio.desk.history import FOUND
from studio.desk.models import MapStep, Mark
from studio.desk.recording import SessionRecording
from studio.desk.statements import document_of
from studio.library.models import Session
from studio.responses import json_response

#: So many steps back a correction is still offered elsewhere.
_LOOKED_BACK = 12
#: A review takes a whole core for a moment; edits go first.
_ONE_AT_A_TIME = threading.Lock()


@remembered(32)  # some kB each
def _reviewed(
    session: Session, step: MapStep, _key: Hashable, usual: tuple[float, float]
) -> tuple[NDArray[np.float64], list[Doubt]]:
    try:
        recording = SessionRecording(session)
        return review(recording.context(), step.tempo_map, usual, recording.chains(), recording.pieces())
    except NoBeats:
        return np.zeros(0), []


class Overtaken(Exception):
    """The map was edited meanwhile: nobody waits for these doubts any more."""


@dataclass(frozen=True)
class _Watch:
    """Called with the share done, and may raise. All are alike to a cache: what is found does not depend on it."""

    progress: Progress = field(default=no_progress, compare=False)


@remembered(32)  # some kB each
def _open(
    session: Session, step: MapStep, key: Hashable, _statements: Hashable, _dismissed: Hashable, watch: _Watch
) -> list[Doubt]:
    """Open doubts with only those remedies that can be trusted."""
    usual = session.slowest, session.fastest
    pinned = step.tempo_map.seconds[pins_of(step.tempo_map)]
    settlements = [m.settlement for m in session.marks.all()]
    if session.meter:  # named before the search: that of all bars
        start, end = step.tempo_map.beats().seconds[[0, -1]].tolist()
        settlements.append(Settlement("meters", start, end))
    found = [d for d in _reviewed(session, step, key, usual)[1] if not is_settled(d, pinned, settlements)]
    try:
        document, recording = document_of(session), SessionRecording(session)
        offered = elsewhere(document, recording, _corrections(session, step))
        offered = [d for d in offered if not is_settled(d, pinned, settlements)]
        return trusted(found, document, recording, usual, watch.progress) + offered
    except NoBeats:
        return found


def _corrections(session: Session, step: MapStep) -> list[Correction]:
    """What the engineer's last steps since the search put right in a stretch, the latest first."""
    out = []
    for _ in range(_LOOKED_BACK):
        before = step.before
        if before is None or step.name == FOUND:
            break
        if not (before.content and step.content and before.map_content == step.map_content):
            found = correction_of(context(session), before.tempo_map, step.tempo_map)
            out += [found] if found else []
        step = before
    return out


def doubts_of(session: Session, progress: Progress = no_progress) -> list[Doubt]:
    """Open doubts about the session's map: all that no pin, lock, hold or dismissal settles.

    Those about the whole take that are worth a listen come first, then the gravest. ``progress`` is called with the
    share done, and may raise to end it.
    """
    step = session.step
    if step is None:
        return []
    key = _key_of(session, step)
    dismissed = tuple(session.marks.filter(kind=Mark.Kind.FINE).values_list("name", "start", "end"))
    left = _open(session, step, key, document_of(session).statements, dismissed, _Watch(progress))
    return sorted(left, key=lambda d: (d.kind not in WHOLE or d.severity < LISTEN, -d.severity, d.start))


def _key_of(session: Session, step: MapStep) -> Hashable:
    """What a review depends on beside the step."""
    return step.made, context_key(session), session.analyses.values_list("pk", flat=True).last()


def confidence_of(session: Session) -> NDArray[np.float64]:
    """How sure each felt beat of the map is as it stands, 0 to 1; empty where nothing can be heard."""
    step = session.map_step
    return _reviewed(session, step, _key_of(session, step), (session.slowest, session.fastest))[0]


def _row(doubt: Doubt) -> dict[str, Any]:
    """A doubt as the page draws and lists it: its remedies and then its choices, each with the number of its key."""
    first_choice, whole = len(doubt.remedies) + 1, doubt.kind in WHOLE
    answer = {"answers": doubt.kind} if whole else {}
    keys = [
        {
            "number": k,
            "words": r.words,
            # a choice about the whole take is the engineer's answer: the same is not asked again
            "json": json.dumps(command_json(r.command) | (answer if k >= first_choice else {})),
            "choice": "first" if k == first_choice else "next" if k > first_choice else "",
        }
        for k, r in enumerate([*doubt.remedies, *doubt.choices][:3], 1)
    ]
    row = {k: v for k, v in doubt.to_json().items() if k != "choices"}
    return {**row, "whole": whole, "remedies": keys}


@require_GET
def doubts(request: HttpRequest, pk: int) -> HttpResponse:
    """Open doubts as data for the canvases and as the list beside them; their number is kept for the library."""
    with _ONE_AT_A_TIME:
        session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
        if request.GET.get("step") not in (None, str(session.step_id)):
            return json_response({"step": None})  # an edit was faster; the page asks again

        def stop_if_overtaken(_share: float) -> None:
            if Session.objects.filter(pk=pk).values_list("step", flat=True).first() != session.step_id:
                raise Overtaken

        try:
            found = doubts_of(session, stop_if_overtaken)
        except Overtaken:
            return json_response({"step": None})
    if session.step and session.step.doubts != len(found):
        MapStep.objects.filter(pk=session.step.pk).update(doubts=len(found))
    listed = [_row(d) for d in found]
    first = len(latest(session, "doubts")["doubts"])
    counts = {s: sum(d.severity == s for d in found) for s in (3, 2, 1)}
    html = render_to_string(
        "desk/panels/doubts.html",
        {"doubts": listed, "counts": counts, "settled": max(0, first - len(found)), "all": max(first, len(found))},
    )
    return json_response({"step": session.step_id, "list": listed, "html": html})
