"""What the page plays: blocks of samples of tracks and parts, the click, a count-in."""

import base64
import math
from pathlib import Path
from typing import TypeVar

import numpy as np
from django.db.models import QuerySet
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from core import audio
from core.audio import Samples
from core.errors import InputError
from core.following import click
from core.tempomap import Meters, TempoMap
from core.tempomap.limits import checked_tempo
from studio.analysis.features import attacks
from studio.caches import remembered
from studio.desk.clicks import clicks_of
from studio.histories import changed
from studio.inputs import LARGEST, Body, Form, Seconds, read_body, read_form, whole
from studio.library.models import Session, Track
from studio.parts import sound
from studio.parts.models import Part
from studio.reshaping.result import Result, in_clock
from studio.responses import bytes_response, json_response
from studio.streaming import BLOCK

R = TypeVar("R", Track, Part)


@require_GET
def block(request: HttpRequest, pk: int, number: int) -> HttpResponse:
    """Block ``number`` of the tracks and parts named: planar float32, one after the other, channel by channel.

    Tracks whose files cannot be read are silent; the header ``X-Silent`` names them by their keys."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    first = number * BLOCK
    tracks = _named(session.tracks.all(), request.GET.get("tracks"))
    parts = _named(session.parts.select_related("step"), request.GET.get("parts"))
    if not tracks and not parts:
        raise Http404
    result = in_clock(request, session)
    found = [_samples(track, first, result) for track in tracks]
    samples = [
        bytes(4 * BLOCK * track.channels) if x is None else np.ascontiguousarray(x.T).tobytes()
        for track, x in zip(tracks, found, strict=True)
    ]
    samples += [sound.block(p, session.map_step, session.sample_rate, first, BLOCK).T.tobytes() for p in parts]
    answer = bytes_response(b"".join(samples), "private, no-store")
    if silent := [str(track.pk) for track, x in zip(tracks, found, strict=True) if x is None]:
        answer["X-Silent"] = ",".join(silent)
    return answer


def _named(rows: QuerySet[R], keys: str | None) -> list[R]:
    """The rows of these keys, in their order. Raises ``Http404`` where one was taken out meanwhile: the page then loads
    its tracks again."""
    try:
        wanted = _numbers(keys)
        found = rows.in_bulk(wanted)
        return [found[n] for n in wanted]
    except (KeyError, ValueError):
        raise Http404 from None


@remembered(256)  # a number each
def _frames(path: Path, _changed: int) -> int:
    """How many frames a file has now."""
    return audio.inspect(path).frames


def _samples(track: Track, first: int, result: Result | None) -> Samples | None:
    """A block of a track; None where its file is missing, damaged, or ends before it should."""
    try:
        found = result.read(track, first, BLOCK) if result else audio.read(track.playback, first, BLOCK)
        file = track.playback
        if first + BLOCK < track.frames and _frames(file, file.stat().st_mtime_ns) < first:
            return None
    except (audio.AudioError, OSError):
        return None
    return found


def _numbers(text: str | None) -> list[int]:
    return [int(n) for n in (text or "").split(",") if n]


#: Weaker attacks are stretched like what lies between; nearer ones than this are one, in seconds.
_LEAST, _ONE = 0.15, 0.012


@require_GET
def attack_starts(request: HttpRequest, pk: int) -> HttpResponse:
    """Where attacks of tracks and notes of parts start, in samples: slow playback leaves them whole."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    result = in_clock(request, session)
    found = [result.attacks(t) if result else attacks(t) for t in session.tracks.all() if t.analysed]
    times = [a.seconds[a.strength >= _LEAST] for a in found]
    if session.step:
        parts = session.parts.filter(gone=False).select_related("step", "step__tied_on")
        times += [np.array([n.start for n in sound.notes_of(p, session.map_step)]) for p in parts]
    starts = np.sort(np.concatenate([np.zeros(0), *times]))
    starts = starts[np.append(True, np.diff(starts) > _ONE)] if len(starts) else starts
    return json_response({"samples": np.round(starts * session.sample_rate).astype(int)})


class ClickStyle(Body):
    sound: str = "wood"
    figure: str = "beats"


class SteadyClick(Form):
    """A steady click of ``bpm`` ``from`` a second on."""

    bpm: float
    start: Seconds = Field(0.0, alias="from")


class CountIn(Form):
    """``bars`` of the map before a time; where there is no map, ``beats`` of ``bpm``."""

    at: Seconds
    bars: int = Field(1, ge=1, le=8)
    bpm: float | None = None
    beats: int = Field(4, ge=1, le=16)


@require_POST
def click_style(request: HttpRequest, pk: int) -> HttpResponse:
    """Which sound the click has, and what it clicks."""
    session = get_object_or_404(Session, pk=pk)
    arguments = read_body(request, ClickStyle)
    try:
        style = click.Style(arguments.sound, arguments.figure)
    except InputError as e:
        return JsonResponse({"error": str(e)}, status=422)
    session.click = {"sound": style.sound, "figure": style.figure}
    session.save(update_fields=["click"])
    changed(session, f"Click: {style.sound}, {style.figure}")
    return JsonResponse({"ok": True})


@require_GET
def click_track(request: HttpRequest, pk: int) -> HttpResponse:
    """The click: at which samples it sounds, and the sounds."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    in_clock(request, session)
    step = session.step
    if request.GET.get("step"):  # another version, to compare by ear
        step = get_object_or_404(session.steps, pk=whole(request.GET["step"], 0, LARGEST, "There is no such version."))
    found = clicks_of(session, step.tempo_map) if step else None
    if request.GET.get("bpm"):  # before there is a map, a steady one to hear the drift against
        try:
            steady = read_form(request.GET, SteadyClick)
            bpm, start = checked_tempo(steady.bpm), max(0.0, steady.start)
        except InputError as e:
            return JsonResponse({"error": str(e)}, status=422)
        bars = max(1, math.ceil((session.seconds - start) * bpm / 240))
        found = clicks_of(session, TempoMap.steady(bpm, start=start, bars=bars))
    return JsonResponse(
        {
            "sounds": _sounds(session),
            "samples": found.samples.tolist() if found else [],
            "kinds": found.kinds.tolist() if found else [],
        }
    )


@require_GET
def count_in(request: HttpRequest, pk: int) -> HttpResponse:
    """The clicks that lead to a time, ``bars`` bars long, in the tempo found there; or at a tempo that is given, with
    the sounds, for who plays without a map."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    arguments = read_form(request.GET, CountIn)
    in_clock(request, session)
    if session.step is None and arguments.bpm is None:
        return JsonResponse({"samples": [], "kinds": [], "length": 0})
    answer: dict[str, object] = {}
    if arguments.bpm is not None:
        try:
            steady = TempoMap.steady(checked_tempo(arguments.bpm), Meters.of((1, f"{arguments.beats}/4")), bars=1)
        except InputError as e:
            return JsonResponse({"error": str(e)}, status=422)
        found, length = click.count_in(steady, session.sample_rate, 0.0)
        answer["sounds"] = _sounds(session)
    else:
        found, length = click.count_in(session.tempo_map, session.sample_rate, arguments.at, arguments.bars)
    return json_response({**answer, "samples": found.samples, "kinds": found.kinds, "length": length})


def _sounds(session: Session) -> list[str]:
    """The click's sounds as the page takes them: float32 samples in base64."""
    made = click.sounds(session.sample_rate, session.click_style.sound)
    return [base64.b64encode(s.tobytes()).decode() for s in made]
