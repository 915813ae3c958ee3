"""Parts as the page sees them: their notes, their panel, how they are made and changed."""

import json
import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

from django.db import transaction
from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse, JsonResponse, QueryDict
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET, require_POST

from core import audio
from core.formats.smf import MidiError, read_notes
from core.formats.song import read_song
from core.instruments.kit import INSTRUMENTS, instrument_for
from core.notes import timing_difference
from core.parts import keyboard, loops
from core.parts.patterns import PATTERNS, pattern_notes
from core.tempomap import TempoMap
from studio.histories import changed
from studio.library.lookup import with_map
from studio.library.models import Session
from studio.library.uploads import clean_name
from studio.library.views import set_mix
from studio.parts import part_history
from studio.parts.models import LOOP, Part, PartStep
from studio.parts.sound import block, notes_of
from studio.reshaping.result import in_clock
from studio.responses import json_response


def playing(session: Session) -> QuerySet[Part]:
    """The parts that are there, with their steps."""
    return session.parts.filter(gone=False).select_related("step", "step__tied_on")


@require_GET
def parts_data(request: HttpRequest, pk: int) -> HttpResponse:
    """Notes of all parts as they sound under the current map, and how far the other tie would be."""
    session = with_map(pk)
    step = session.step_id
    in_clock(request, session)
    tempo_map = session.tempo_map
    out = []
    for part in playing(session):
        notes = notes_of(part, session.map_step)
        off = timing_difference(notes, part.now.otherwise(tempo_map))
        out.append(
            {
                "id": part.pk,
                "start": [n.start for n in notes],
                "end": [n.end for n in notes],
                "pitch": [n.pitch for n in notes],
                "velocity": [n.velocity for n in notes],
                "mean": off.mean,
                "largest": off.largest,
            }
        )
    return json_response({"step": step, "parts": out})


def panel_answer(request: HttpRequest, session: Session, error: str = "", status: int = 200) -> HttpResponse:
    """The Parts pane. An event in the response tells the page of the change."""
    rows = []
    for part in playing(session):
        off = timing_difference(notes_of(part, session.map_step), part.now.otherwise(session.tempo_map))
        rows.append({"part": part, "difference": off})
    first, last = session.tempo_map.bar_range
    context = {
        "session": session,
        "rows": rows,
        "performances": session.tracks.filter(midi=True),
        "gone": session.parts.filter(gone=True),
        "patterns": PATTERNS.values(),
        "instruments": INSTRUMENTS,
        "first": max(1, first),
        "last": last,
        "error": error,
    }
    out = render(request, "parts/panel.html", context, status=status)
    if request.method == "POST" and not error:
        out["HX-Trigger"] = "parts-changed"
    return out


@require_GET
def panel(request: HttpRequest, pk: int) -> HttpResponse:
    return panel_answer(request, with_map(pk))


def bars_from(data: QueryDict, tempo_map: TempoMap) -> tuple[int, int]:
    """First and last bar of a form; empty: all. Raises ``ValueError`` in the engineer's words."""
    low, high = tempo_map.bar_range
    try:
        first, last = int(data.get("from") or max(1, low)), int(data.get("to") or high)
    except ValueError:
        raise ValueError("Bars are whole numbers.") from None
    if not low <= first <= last <= high + 500:
        raise ValueError(f"Bars rise from a first to a last one; the map has bars {low} to {high}.")
    return first, last


@require_POST
def add_pattern(request: HttpRequest, pk: int) -> HttpResponse:
    """A pattern in a range of bars becomes a part."""
    session = with_map(pk)
    pattern = PATTERNS.get(request.POST.get("pattern", ""))
    if pattern is None:
        return panel_answer(request, session, "There is no such pattern.", 422)
    tempo_map = session.tempo_map
    try:
        first, last = bars_from(request.POST, tempo_map)
        fill = int(request.POST.get("fill") or 0)
        notes = pattern_notes(
            pattern, tempo_map.meters, first, last, max(0, fill), "opening" in request.POST, "ending" in request.POST
        )
    except ValueError as e:
        return panel_answer(request, session, str(e), 422)
    part_history.make(session, pattern.name, "drums", notes, done=f"Added in bars {first} to {last}")
    return panel_answer(request, session)


@require_POST
def empty(request: HttpRequest, pk: int) -> HttpResponse:
    """A part without notes, to be written in the roll."""
    session = with_map(pk)
    instrument = request.POST.get("instrument", "")
    if instrument not in INSTRUMENTS:
        return panel_answer(request, session, "There is no such instrument.", 422)
    part_history.make(session, instrument.capitalize(), instrument, [], done="Empty")
    return panel_answer(request, session)


@require_POST
def import_midi(request: HttpRequest, pk: int) -> HttpResponse:
    """A MIDI file's parts. ``right``: ``bars`` (its bars are right; its bar 1 comes to bar ``at``) or ``seconds``."""
    session = with_map(pk)
    file = request.FILES.get("file")
    if file is None:
        return panel_answer(request, session, "Choose a MIDI file first.", 422)
    name = clean_name(file.name or "")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "song.mid"
        path.write_bytes(file.read())
        try:
            song = read_song(path, name)
            at = int(request.POST.get("at") or 1)
        except MidiError as e:
            return panel_answer(request, session, str(e), 422)
        except ValueError:
            return panel_answer(request, session, "Bars are whole numbers.", 422)
    by_bars = request.POST.get("right") != "seconds"
    for p in song.parts:
        moved = [replace(n, bar=n.bar + at - 1) for n in p.score_notes]
        notes, ties = (moved, PartStep.Ties.BARS) if by_bars else (p.notes, PartStep.Ties.CLOCK)
        part_history.make(session, p.name, instrument_for(p.program, p.channel), notes, ties, p.program, f"From {name}")
    return panel_answer(request, session)


@require_POST
def from_track(request: HttpRequest, pk: int) -> HttpResponse:
    """The notes of a MIDI performance among the tracks, as a part that can be quantised or edited; the track stays."""
    session = with_map(pk)
    track = get_object_or_404(session.tracks.filter(midi=True), pk=request.POST.get("track") or 0)
    notes = read_notes(track.source, track.name)
    part_history.make(session, track.name, "keys", notes, PartStep.Ties.CLOCK, done=f"The notes of {track.name}")
    return panel_answer(request, session)


@require_POST
def import_loop(request: HttpRequest, pk: int) -> HttpResponse:
    """Place an audio loop with a known number of beats in a range of bars, each of its beats on a felt beat."""
    session = with_map(pk)
    file = request.FILES.get("file")
    if file is None:
        return panel_answer(request, session, "Choose a loop first: an audio file.", 422)
    name = clean_name(file.name or "")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"loop{Path(name).suffix}"
        path.write_bytes(file.read())
        try:
            audio.inspect(path, name)
            first, last = bars_from(request.POST, session.tempo_map)
            beats = request.POST.get("beats", "")
            if not beats.isdecimal():
                raise ValueError("How many beats the loop has is a whole number.")
            notes = loops.loop_notes(session.tempo_map.meters, first, last, int(beats))
        except ValueError as e:
            return panel_answer(request, session, str(e), 422)
        with transaction.atomic():
            stem = name.rsplit(".", 1)[0]
            made = part_history.make(
                session, stem, LOOP, notes, done=f"Added in bars {first} to {last}", beats=int(beats)
            )
            made.loop.parent.mkdir(parents=True, exist_ok=True)
            audio.write_at_rate(path, made.loop, session.sample_rate)
        block(made, session.map_step, session.sample_rate, 0, 1)  # stretched now, so that playing need not wait for it
    return panel_answer(request, session)


@require_POST
def record(request: HttpRequest, pk: int) -> HttpResponse:
    """What a keyboard sent while the take played, as ``[seconds, status, data, data]`` rows, becomes a part."""
    session = with_map(pk)
    params = json.loads(request.body)
    try:
        messages = [(float(t), int(s) & 255, int(a) & 127, int(b) & 127) for t, s, a, b in params["messages"]]
    except (KeyError, TypeError, ValueError):
        return JsonResponse({"error": "The keyboard sent something that is no MIDI message."}, status=422)
    notes = keyboard.notes_from(messages, params.get("end"))
    if not notes:
        return JsonResponse({"error": "Nothing was played."}, status=422)
    part = part_history.make(session, "Keyboard", "keys", notes, PartStep.Ties.CLOCK, done="Played in")
    return JsonResponse({"part": part.pk, "notes": len(notes)})


@require_GET
def simulated(request: HttpRequest, pk: int) -> HttpResponse:
    """What the simulated keyboard will send: a made-up take over the map's bars."""
    session = with_map(pk)
    try:
        first, last = bars_from(request.GET, session.tempo_map)
    except ValueError as e:
        return JsonResponse({"error": str(e)}, status=422)
    return JsonResponse({"messages": list(keyboard.made_up_take(session.tempo_map, first, last))})


@require_POST
def part(request: HttpRequest, pk: int) -> HttpResponse:
    """Set a part's level, mute, solo, name or instrument."""
    found = get_object_or_404(Part, pk=pk)
    params = json.loads(request.body)
    set_mix(found, params)
    with transaction.atomic():
        found.save(update_fields=[f for f in ("gain", "muted", "solo") if f in params] or None)
        changed(found.session, f"Level of {found.name}", gesture=True)
    return JsonResponse({"ok": True})


@require_POST
def act(request: HttpRequest, pk: int) -> HttpResponse:
    """A change from the Parts pane: ``ties``, ``instrument``, ``name``, ``out`` or ``back``."""
    found = get_object_or_404(Part.objects.select_related("session", "session__step"), pk=pk)
    if request.POST.get("ties") in PartStep.Ties.values:
        part_history.tie(found, request.POST["ties"])
    new: dict[str, Any] = {}
    done = ""
    if request.POST.get("instrument") in INSTRUMENTS:
        new["instrument"] = request.POST["instrument"]
        done = f"{found.name} is played by {new['instrument']}"
    if request.POST.get("name", "").strip():
        new["name"] = request.POST["name"].strip()[:200]
        done = f"Part name: {new['name']}"
    if "out" in request.POST or "back" in request.POST:
        new["gone"] = "out" in request.POST
        done = f"{'Took out' if new['gone'] else 'Brought back'} {found.name}"
    if new:
        with transaction.atomic():
            Part.objects.filter(pk=pk).update(**new)
            changed(found.session, done)
    return panel_answer(request, found.session)
