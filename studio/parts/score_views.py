"""The Score view: a part, or a MIDI performance, as notation before the map and with it."""

from pathlib import Path
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from core.formats import musicxml
from core.formats.smf import read_notes
from core.notes import Note, to_score
from core.parts.notation import Bar, notate, readability
from core.tempomap import TempoMap
from studio.caches import remembered
from studio.inputs import whole
from studio.library.lookup import with_map
from studio.library.models import Session, Track
from studio.parts.engraving import engraved
from studio.parts.models import Part
from studio.parts.sound import notes_of
from studio.parts.views import playing

#: The pitch between the two staves of a keyboard; semitones by which notes have to lie clear of it on both sides.
MIDDLE_C, _CLEAR = 60, 5
#: Bars on a page of the view.
PAGE = 8


@remembered(8)  # some 100 kB each
def _performed(path: Path, name: str) -> list[Note]:
    return read_notes(path, name)


def sources(session: Session) -> list[dict[str, Any]]:
    """What can be written down: parts, and tracks that are MIDI performances."""
    parts = [{"key": f"part-{p.pk}", "name": p.name, "of": p} for p in playing(session) if not p.is_loop]
    return parts + [{"key": f"track-{t.pk}", "name": t.name, "of": t} for t in session.tracks.filter(midi=True)]


def _notes(session: Session, of: Part | Track) -> list[Note]:
    return _performed(of.source, of.name) if isinstance(of, Track) else notes_of(of, session.map_step)


def steady(tempo_map: TempoMap) -> TempoMap:
    """What a program without the map writes by: the take's average tempo all along, bar 1 where the map has it."""
    beats = tempo_map.beats()
    bpm = 60 * float(beats.quarters[-1] - beats.quarters[0]) / float(beats.seconds[-1] - beats.seconds[0])
    last = tempo_map.bar_range[1]
    return TempoMap.steady(bpm, tempo_map.meters, float(tempo_map.bar_seconds(1)), max(8, last))


def _chosen(session: Session, key: str | None) -> dict[str, Any] | None:
    found = sources(session)
    return next((s for s in found if s["key"] == key), found[-1] if found else None)


def _document(session: Session, source: dict[str, Any], bars: list[Bar], pitches: list[int], bpm: float) -> str:
    harmony = getattr(session, "harmony", None)
    drums = getattr(source["of"], "instrument", "") == "drums"
    low = bool(pitches) and max(pitches) < MIDDLE_C
    return musicxml.write(bars, source["name"], musicxml.fifths_of(harmony.key if harmony else ""), drums, bpm, low)


def _staves(source: dict[str, Any], pitches: list[int]) -> int:
    """Two where the notes lie on both sides of middle C, for a keyboard to read."""
    if getattr(source["of"], "instrument", "") == "drums" or not pitches:
        return 1
    return 2 if min(pitches) < MIDDLE_C - _CLEAR and max(pitches) > MIDDLE_C + _CLEAR - 1 else 1


def _reading(
    session: Session, source: dict[str, Any], tempo_map: TempoMap, first: int, last: int, seed: int
) -> dict[str, Any]:
    notes = _notes(session, source["of"])
    pitches = [n.pitch for n in notes]
    bars = notate(to_score(tempo_map, notes), tempo_map.meters, first, last, _staves(source, pitches))
    document = _document(session, source, bars, pitches, tempo_map.average_bpm)
    whole = notate(to_score(tempo_map, notes), tempo_map.meters, *tempo_map.bar_range, _staves(source, pitches))
    return {"svg": engraved(document, 480, seed), "easy": readability(whole)}


@require_GET
def view(request: HttpRequest, pk: int) -> HttpResponse:
    """Some bars side by side: at the average tempo, and with the map."""
    session = with_map(pk)
    source = _chosen(session, request.GET.get("source"))
    context: dict[str, Any] = {"session": session, "source": source, "sources": sources(session)}
    if source:
        tempo_map = session.tempo_map
        low, high = tempo_map.bar_range
        wanted = request.GET.get("from", "")
        first = min(max(low, whole(wanted) if wanted else 1), high)
        plain = steady(tempo_map)
        at = int(plain.meters.bars_at(plain.quarters_at(tempo_map.bar_seconds(first)) + 0.5))
        context |= {
            "first": first,
            "last": min(high, first + PAGE - 1),
            "back": max(low, first - PAGE),
            "on": first + PAGE if first + PAGE <= high else None,
            "before": _reading(session, source, plain, at, at + PAGE - 1, 1),
            "after": _reading(session, source, tempo_map, first, min(high, first + PAGE - 1), 2),
        }
    return render(request, "parts/score.html", context)


@require_GET
def document(request: HttpRequest, pk: int) -> HttpResponse:
    """The whole part with the map, as MusicXML."""
    session = with_map(pk)
    source = _chosen(session, request.GET.get("source"))
    if source is None:
        return HttpResponse("There is nothing to write down yet.", status=422, content_type="text/plain; charset=utf-8")
    tempo_map = session.tempo_map
    notes = _notes(session, source["of"])
    pitches = [n.pitch for n in notes]
    bars = notate(to_score(tempo_map, notes), tempo_map.meters, *tempo_map.bar_range, _staves(source, pitches))
    headers = {"Content-Disposition": 'attachment; filename="notation.musicxml"'}
    return HttpResponse(
        _document(session, source, bars, pitches, tempo_map.average_bpm),
        content_type="application/vnd.recordare.musicxml+xml",
        headers=headers,
    )
