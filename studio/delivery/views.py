"""Delivering: the map and what is made from it, as files."""

import io
import re
from typing import Any

import numpy as np
import soundfile as sf
from django.http import FileResponse, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET
from numpy.typing import NDArray

from core import audio
from core.following import click
from core.following.running_order import whole_bars
from core.formats import smf, tables, wavloop
from core.formats.song import PartToWrite, write_song
from studio.delivery.mixing import common_level, mixed
from studio.desk.clicks import clicks_of
from studio.desk.models import Mark
from studio.inputs import LARGEST, whole
from studio.library.models import Session
from studio.parts import sound


def _with_map(pk: int) -> Session:
    return get_object_or_404(
        Session.objects.select_related("step").prefetch_related("tracks"), pk=pk, step__isnull=False
    )


def _file(data: bytes, session: Session, what: str, kind: str) -> FileResponse:
    # what file systems take everywhere; the title itself may hold anything
    stem = re.sub(r"[^\w\- ]+", "", session.title).strip()[:80] or "session"
    return FileResponse(io.BytesIO(data), as_attachment=True, filename=f"{stem} {what}", content_type=kind)


def _sections(session: Session) -> list[tuple[float, str]]:
    """Start and name of each section, on its bar line."""
    tempo_map = session.tempo_map
    found = session.marks.filter(kind=Mark.Kind.SECTION)
    bars = [whole_bars(tempo_map, m.start, m.end, session.sample_rate) for m in found]
    return [(float(tempo_map.bar_seconds(b.first)), m.name) for b, m in zip(bars, found, strict=True)]


@require_GET
def midi(request: HttpRequest, pk: int) -> HttpResponse | FileResponse:
    session = _with_map(pk)
    try:
        written = smf.write(session.tempo_map, session.title, _sections(session), bool(request.GET.get("bars")))
    except smf.MidiError as e:
        return HttpResponse(str(e), status=422, content_type="text/plain; charset=utf-8")
    out = io.BytesIO()
    written.file.save(file=out)
    return _file(out.getvalue(), session, "map.mid", "audio/midi")


@require_GET
def click_wav(request: HttpRequest, pk: int) -> HttpResponse | FileResponse:
    """The click as it is played at the desk, for the whole take or from one bar (``from``) up to another (``to``)."""
    session = _with_map(pk)
    tempo_map, rate = session.tempo_map, session.sample_rate
    start, end = 0, round(session.seconds * rate)
    if request.GET.get("to"):
        end = min(end, round(float(tempo_map.bar_seconds(whole(request.GET["to"]) + 1)) * rate))
    if request.GET.get("from"):
        start = round(float(tempo_map.bar_seconds(whole(request.GET["from"]))) * rate)
    if not 0 <= start < end:
        return HttpResponse("Those bars hold nothing.", status=422, content_type="text/plain; charset=utf-8")
    found = clicks_of(session, tempo_map)
    track = click.render(found, rate, end - start, session.click_style.sound, start)
    out = io.BytesIO()
    sf.write(out, track, rate, "PCM_24", format="WAV")
    return _file(out.getvalue(), session, "click.wav", "audio/wav")


@require_GET
def song(request: HttpRequest, pk: int) -> HttpResponse | FileResponse:
    """The map with all parts that hold notes, as one MIDI file."""
    session = _with_map(pk)
    tempo_map = session.tempo_map
    parts = [
        PartToWrite(p.name, p.program, p.instrument == "drums", p.now.stored())
        for p in session.parts.filter(gone=False).select_related("step")
        if not p.is_loop
    ]
    try:
        written = smf.write(tempo_map, session.title, _sections(session), bool(request.GET.get("bars")))
    except smf.MidiError as e:
        return HttpResponse(str(e), status=422, content_type="text/plain; charset=utf-8")
    out = io.BytesIO()
    write_song(written, tempo_map, parts).save(file=out)
    return _file(out.getvalue(), session, "map and parts.mid", "audio/midi")


@require_GET
def part_wav(request: HttpRequest, pk: int, part: int) -> HttpResponse | FileResponse:
    """A part as it sounds, as long as the take."""
    session = _with_map(pk)
    found = get_object_or_404(session.parts.select_related("step"), pk=part)
    samples = sound.block(found, session.map_step, session.sample_rate, 0, session.frames)
    out = io.BytesIO()
    sf.write(out, np.clip(samples, -1, 1), session.sample_rate, "PCM_24", format="WAV")
    return _file(out.getvalue(), session, f"{found.name}.wav", "audio/wav")


@require_GET
def loop_wav(request: HttpRequest, pk: int) -> HttpResponse | FileResponse:
    """Bars ``from`` to ``to`` cut exactly on their lines, of one track (``track``) or of all that is heard."""
    session = _with_map(pk)
    tempo_map, rate = session.tempo_map, session.sample_rate
    first, last = whole(request.GET.get("from")), whole(request.GET.get("to"))
    chosen = whole(request.GET.get("track") or "0", 0, LARGEST, "There is no such track.")
    low, high = tempo_map.bar_range
    if not low <= first <= last <= high:
        return _refused(f"The map has bars {low} to {high}, and loops rise from a first to a last one.")
    lines = [round(float(t) * rate) for t in tempo_map.bar_seconds(range(first, last + 2))]
    start, end = lines[0], min(lines[-1], round(session.seconds * rate))
    if not 0 <= start < end:
        return _refused("Those bars lie before the recording starts.")
    tracks = [t for t in session.tracks.all() if t.analysed and chosen in (0, t.pk)]
    if not tracks:
        return _refused("There is no such track.")
    pre = min(start, wavloop.BLEND)
    cut: NDArray[Any]
    if chosen:
        cut = audio.read(tracks[0].playback, start - pre, end - start + pre)
    else:
        cut = common_level(session) * mixed(session, start - pre, end - start + pre)
    cut = wavloop.seamless(cut, pre)
    beats = round(float(tempo_map.beat_index_at(end / rate) - tempo_map.beat_index_at(start / rate)))
    meters = {tempo_map.meters.meter_at(b).felt for b in range(first, last + 1)}
    facts = wavloop.LoopFacts(
        last - first + 1,
        beats,
        " and ".join(sorted(meters)),
        60 * beats * rate / (end - start),
        [(line - start, f"Bar {first + i}") for i, line in enumerate(lines[:-1])],
    )
    what = f"bars {first}-{last}" + (f" {tracks[0].name}" if chosen else "")
    return _file(wavloop.write(cut, rate, facts, session.title), session, f"{what}.wav", "audio/wav")


def _refused(words: str) -> HttpResponse:
    return HttpResponse(words, status=422, content_type="text/plain; charset=utf-8")


@require_GET
def beats_csv(request: HttpRequest, pk: int) -> HttpResponse | FileResponse:
    session = _with_map(pk)
    return _file(tables.beats_csv(session.tempo_map).encode(), session, "beats.csv", "text/csv; charset=utf-8")
