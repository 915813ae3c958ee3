"""Parts as the page sees them: their notes, their panel, how they are made and changed."""

import tempfile
from pathlib import Path
from typing import Annotated, Any

from django.db import transaction
from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse, JsonResponse, QueryDict
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from core import audio
from core.errors import InputError
from core.formats.smf import MidiError, read_notes
from core.formats.song import read_song
from core.instruments.kit import INSTRUMENTS
from core.instruments.soundfont import SoundFontError
from core.notes import MOST_NOTES, timing_difference
from core.parts import keyboard, loops
from core.parts.patterns import PATTERNS, pattern_notes
from core.parts.roll import RollError
from core.tempomap import TempoMap
from studio.histories import changed
from studio.inputs import LARGEST, BadInput, Body, Seconds, read_body, whole
from studio.library import stand_ins
from studio.library.lookup import with_map
from studio.library.models import Session
from studio.library.uploads import clean_name, shown_name
from studio.library.views import Mix, mix_words, set_mix
from studio.parts import part_history, sound_sets
from studio.parts.models import LOOP, Part, PartStep
from studio.parts.sound import block, notes_of
from studio.reshaping.result import in_clock
from studio.responses import json_response

MidiStatus = Annotated[int, Field(ge=0, le=255)]
MidiData = Annotated[int, Field(ge=0, le=127)]


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
        "demo": stand_ins.are_offered(),
        "sound_sets": sound_sets.choices(),
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
    """First and last bar of a form; empty: all. Raises :class:`core.errors.InputError`."""
    low, high = tempo_map.bar_range
    first, last = whole(data.get("from") or str(max(1, low))), whole(data.get("to") or str(high))
    if not low <= first <= last <= high + 500:
        raise InputError(f"Bars rise from a first to a last one; the map has bars {low} to {high}.")
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
        fill = whole(request.POST.get("fill") or "0", 0, 999, "A fill comes every so many bars: a whole number.")
        notes = pattern_notes(
            pattern, tempo_map.meters, first, last, fill, "opening" in request.POST, "ending" in request.POST
        )
    except InputError as e:
        return panel_answer(request, session, str(e), 422)
    part_history.make(session, pattern.name, "drums", notes, done=f"Added in bars {first} to {last}")
    return panel_answer(request, session)


@require_POST
def sounds(request: HttpRequest, pk: int) -> HttpResponse:
    """Which sound set plays the parts, by what it is stored as."""
    session = with_map(pk)
    wanted = request.POST.get("sounds", "")
    if wanted not in sound_sets.choices():
        return panel_answer(request, session, "There is no such sound set any more.", 422)
    try:
        sound_sets.check(wanted)
    except SoundFontError as e:
        return panel_answer(request, session, str(e), 422)
    with transaction.atomic():
        session.sounds = wanted
        session.save(update_fields=["sounds"])
        changed(session, f"Parts play with {sound_sets.choices()[wanted]}")
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
            at = whole(request.POST.get("at") or "1")
        except (MidiError, BadInput) as e:
            return panel_answer(request, session, str(e), 422)
    by_bars = request.POST.get("right") != "seconds"
    try:
        part_history.make_all(session, song, name, by_bars, at)
    except RollError as e:
        return panel_answer(request, session, str(e), 422)
    return panel_answer(request, session)


@require_POST
def from_track(request: HttpRequest, pk: int) -> HttpResponse:
    """The notes of a MIDI performance among the tracks, as a part that can be quantised or edited; the track stays."""
    session = with_map(pk)
    chosen = whole(request.POST.get("track") or "0", 0, LARGEST, "There is no such track.")
    track = get_object_or_404(session.tracks.filter(midi=True), pk=chosen)
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
            beats = whole(request.POST.get("beats"), 1, 9999, "How many beats the loop has is a whole number.")
            notes = loops.loop_notes(session.tempo_map.meters, first, last, beats)
        except InputError as e:
            return panel_answer(request, session, str(e), 422)
        with transaction.atomic():
            stem = name.rsplit(".", 1)[0]
            made = part_history.make(session, stem, LOOP, notes, done=f"Added in bars {first} to {last}", beats=beats)
            made.loop.parent.mkdir(parents=True, exist_ok=True)
            audio.write_at_rate(path, made.loop, session.sample_rate)
        block(made, session.map_step, session.sample_rate, 0, 1)  # stretched now, so that playing need not wait for it
    return panel_answer(request, session)


class PlayedIn(Body):
    """What a keyboard sent: rows of seconds of the take and the three bytes of a MIDI message; ``end``: when it
    stopped."""

    messages: list[tuple[Seconds, MidiStatus, MidiData, MidiData]] = Field(max_length=MOST_NOTES)
    end: Seconds | None = None


@require_POST
def record(request: HttpRequest, pk: int) -> HttpResponse:
    """What a keyboard sent while the take played, as ``[seconds, status, data, data]`` rows, becomes a part."""
    session = with_map(pk)
    played = read_body(request, PlayedIn)
    notes = keyboard.notes_from(played.messages, played.end)
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
    except InputError as e:
        return JsonResponse({"error": str(e)}, status=422)
    return JsonResponse({"messages": list(keyboard.made_up_take(session.tempo_map, first, last))})


@require_POST
def part(request: HttpRequest, pk: int) -> HttpResponse:
    """Set a part's level, mute, solo, pan or name."""
    found = get_object_or_404(Part, pk=pk)
    mix = read_body(request, Mix)
    fields, done = set_mix(found, mix), mix_words(mix, found.name)
    if mix.name is not None:
        found.name = shown_name(mix.name)[:200]
        fields.append("name")
        done = f"Part name: {found.name}"
    with transaction.atomic():
        found.save(update_fields=fields)
        changed(found.session, done, gesture=mix.name is None)
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
        new["program"] = INSTRUMENTS[new["instrument"]].program
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
