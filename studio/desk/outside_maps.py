"""A map from outside: read from a file, laid where it fits the recording, and taken as the map or beside it."""

from __future__ import annotations

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_POST
from django_htmx.http import trigger_client_event

from core.document import BarLine, Document
from core.editing.obeying import obeying
from core.formats.beat_tables import MapFileError
from core.formats.carried import CarriedMap, CarryError, Section
from core.formats.carried.content import from_text, to_text
from core.tempomap import TempoMap
from core.tempomap.bar_lines import lines_of
from core.tempomap.edits import EditError, pins_of
from core.tempomap.merge import with_bars_of
from core.tracking import NoBeats
from core.tracking.offset import Offset, find_offset
from studio.analysis import features
from studio.desk.find_job import FIND
from studio.desk.history import changed, keep_aside, record
from studio.desk.models import Mark
from studio.desk.recording import SessionRecording
from studio.desk.statements import document_of, mark_of
from studio.inputs import whole
from studio.jobs.queue import start
from studio.library.map_uploads import ACCEPT, read_map_upload
from studio.library.models import Session

#: Bar lines that are stated at a time, at most.
MOST_LINES = 400
#: What a file's map is kept in until it is taken, in the session's folder.
_KEPT = "outside-map.json"


def take_map(session: Session, carried: CarriedMap, name: str) -> None:
    """Make a map from outside the session's next step, with its sections; what the engineer has said holds in it.

    Raises :class:`core.tempomap.edits.EditError`.
    """
    document = Document(carried.map, document_of(session).statements)
    pins = carried.map.seconds[pins_of(carried.map)].tolist()
    now = document_of(session).map
    pins += now.seconds[pins_of(now)].tolist() if now else []
    with transaction.atomic():
        keep_sections(session, carried.sections)
        # a session without recordings has nothing that what was said could be weighed against
        has_statements = document.statements or (now and pins_of(now).any())
        record(session, obeying(SessionRecording(session), document, pins) if has_statements else carried.map, name)


def keep_sections(session: Session, sections: tuple[Section, ...]) -> None:
    """Add sections that the session does not have yet, by name and place."""
    have = {(m.name, round(m.start, 2)) for m in session.marks.filter(kind=Mark.Kind.SECTION)}
    for k, s in enumerate(sections):
        if (s.name[:100], round(s.start, 2)) not in have and s.end > s.start:
            Mark.objects.create(
                session=session, kind=Mark.Kind.SECTION, name=s.name[:100], start=s.start, end=s.end, colour=k % 6
            )


@require_POST
def bring(request: HttpRequest, pk: int) -> HttpResponse:
    """Read a map from a file and say where it fits the recording; nothing is changed yet."""
    session = get_object_or_404(Session.objects.select_related("step").prefetch_related("tracks"), pk=pk)
    try:
        found = read_map_upload(request)
    except MapFileError as e:
        return _pane(request, session, str(e))
    session.folder.mkdir(parents=True, exist_ok=True)
    (session.folder / _KEPT).write_text(to_text(found), encoding="utf-8")
    return _pane(request, session)


def _pane(request: HttpRequest, session: Session, error: str = "") -> HttpResponse:
    kept = _kept(session)
    context = {"session": session, "error": error, "kept": kept, "endings": ACCEPT}
    if kept and not error:
        offset = _offset(session, kept)
        beats = kept.map.beats()
        context |= {
            "offset": offset,
            "beats": len(beats),
            "bars": max(1, kept.map.bar_range[1]),
            "bpm": kept.map.median_bpm,
            "bar_one": float(kept.map.bar_seconds(1)),
            "fitted": float(kept.map.bar_seconds(1)) + (offset.seconds if offset else 0.0),
        }
    return render(request, "desk/panels/outside.html", context, status=422 if error else 200)


def _kept(session: Session) -> CarriedMap | None:
    try:
        return from_text((session.folder / _KEPT).read_text(encoding="utf-8"))
    except (OSError, CarryError):
        return None


def _offset(session: Session, carried: CarriedMap) -> Offset | None:
    try:
        return find_offset(features.context(session), carried.map)
    except NoBeats:  # there is no recording to compare it with
        return None


def _merged(session: Session, laid: CarriedMap, request: HttpRequest) -> CarriedMap:
    """The whole map, or the session's own with the bars of it that were asked for."""
    first, last = request.POST.get("from", "").strip(), request.POST.get("to", "").strip()
    if not (first or last) or session.step is None:
        return laid
    bars = [whole(text or default, 1, 10**6, "Bars are whole numbers.") for text, default in ((first, "1"), (last, ""))]
    return CarriedMap(with_bars_of(session.tempo_map, laid.map, *bars), laid.title)


def _say_lines(session: Session, tempo_map: TempoMap) -> None:
    """State every bar line of a map, and search for the beats anew: what is said has to be obeyed."""
    lines, _ = lines_of(tempo_map)
    at = tempo_map.seconds_of_beat(lines)
    inside = at[(at >= 0) & (at <= session.seconds)]
    if len(inside) > MOST_LINES:
        raise EditError(f"That are {len(inside)} bar lines; {MOST_LINES} can be stated at a time.")
    with transaction.atomic():
        for t in inside.tolist():
            mark_of(session, BarLine(t)).save()
        changed(session, f"{len(inside)} bar lines of a file stated")
    start(session, FIND)


@require_POST
def take(request: HttpRequest, pk: int) -> HttpResponse:
    """Take the map that was read: ``where``, fitted or as written; of it all, or the bars ``from`` to ``to``. ``how``:
    as the map, as a version beside the present one, or as bar lines that a new search has to obey."""
    session = get_object_or_404(Session.objects.select_related("step").prefetch_related("tracks"), pk=pk)
    kept = _kept(session)
    if kept is None:
        return _pane(request, session, "Choose the file again; what was read of it is gone.")
    offset = _offset(session, kept) if request.POST.get("where") == "fitted" else None
    laid = kept.moved(offset.seconds) if offset else kept
    name = f"Map of {kept.title}"[:200]
    how = request.POST.get("how", "map")
    try:
        if how == "lines":
            _say_lines(session, laid.map)
        else:
            laid = _merged(session, laid, request)
            if how == "version" and session.step:
                keep_aside(session, laid.map, name, session.step, version=name)
            else:
                take_map(session, laid, name)
    except (EditError, NoBeats) as e:
        return _pane(request, session, str(e))
    (session.folder / _KEPT).unlink(missing_ok=True)
    session = get_object_or_404(Session.objects.select_related("step").prefetch_related("tracks"), pk=pk)
    return trigger_client_event(_pane(request, session), "map-taken")
