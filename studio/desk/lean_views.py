"""The Lean view: each player against the map, as a table, a picture and a CSV file."""

import csv
import io

import numpy as np
import soxr
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET
from numpy.typing import ArrayLike, NDArray

from core import audio
from core.following.lean import Lean, lean
from core.listening import distance
from studio.analysis.features import NotAnalysed, analysed_tracks
from studio.caches import remembered
from studio.library.models import Session, Track

Floats = NDArray[np.float64]
#: The strips' scale, in ms either way.
SCALE = 40
WIDE, HIGH = 560, 56


#: Seconds of the take in which distant microphones are looked for, around its middle, and at which rate.
STRETCH, RATE = 60, 16_000


def leans(session: Session) -> list[Lean]:
    """The lean of every track. Raises :class:`studio.analysis.features.NotAnalysed`."""
    tracks = tuple(t for t in session.tracks.all() if t.analysed)
    late = _delays(tracks, session.sample_rate, session.seconds)
    return lean(session.tempo_map, analysed_tracks(session, tracks), late)


@remembered(32)  # a number a track
def _delays(tracks: tuple[Track, ...], rate: int, seconds: float) -> list[float]:
    """The delay of each track behind the others; tracks never change once they are analysed."""
    start = max(0, round((seconds - STRETCH) / 2 * rate))
    sounds = (audio.mono(audio.read(t.playback, start, STRETCH * rate)) for t in tracks)
    found = distance.delays([soxr.resample(x, rate, RATE, quality="MQ") for x in sounds], RATE)
    return [float(seconds) for seconds in found]


@require_GET
def view(request: HttpRequest, pk: int) -> HttpResponse:
    """Who drags, who pushes, where it comes apart."""
    session = get_object_or_404(Session.objects.select_related("step").prefetch_related("tracks"), pk=pk)
    rows, error = [], ""
    if session.step:
        beats = session.tempo_map.beats()
        try:
            measured = leans(session)
        except NotAnalysed as e:
            measured, error = [], str(e)
        for found in measured:
            rows.append(
                {
                    "name": found.name,
                    "delay": found.delay,
                    "average": found.average,
                    "spread": found.spread,
                    "share": 100 * found.share,
                    "words": _words(found),
                    "dots": _dots(beats.seconds, found.off, session.seconds),
                    "line": _line(beats.seconds, found.off, session.seconds),
                    "bars": _columns(found.by_beat),
                }
            )
    context = {
        "session": session,
        "rows": rows,
        "error": error,
        "scale": SCALE,
        "wide": WIDE,
        "high": HIGH,
        "middle": HIGH / 2,
    }
    return render(request, "desk/lean.html", context)


#: Milliseconds: a player within the first is on the beat; spreads that are very firm, and firm (common practice).
_ON_BEAT, _VERY_FIRM, _FIRM = 3, 5, 10


def _words(found: Lean) -> str:
    if not found.share or np.isnan(found.average):
        return "does not play on the beats"
    side = "on the beat" if abs(found.average) < _ON_BEAT else "drags" if found.average > 0 else "pushes"
    firm = "very firm" if found.spread < _VERY_FIRM else "firm" if found.spread < _FIRM else "loose"
    far = f", microphone {found.delay:.0f} ms away" if found.delay else ""
    return f"{side}, {firm}{far}"


def _x(seconds: ArrayLike, length: float) -> Floats:
    return np.round(WIDE * np.asarray(seconds) / max(length, 1e-9), 1)


def _y(ms: ArrayLike) -> Floats:
    return np.round(HIGH / 2 - (HIGH / 2 - 2) * np.clip(np.asarray(ms) / SCALE, -1, 1), 1)


def _dots(seconds: Floats, off: Floats, length: float) -> str:
    """All beats' dots as one path."""
    played = ~np.isnan(off)
    places = zip(_x(seconds[played], length), _y(off[played]), strict=True)
    return "".join(f"M{x} {y}h0" for x, y in places)


#: Beats to either side over which the line is smoothed.
_EITHER_SIDE = 4


def _line(seconds: Floats, off: Floats, length: float) -> str:
    """The mean over eight beats around, where half of them are played."""
    points = []
    for k in range(0, len(off), 2):
        near = off[max(0, k - _EITHER_SIDE) : k + _EITHER_SIDE + 1]
        if np.isfinite(near).sum() >= _EITHER_SIDE:
            points.append(f"{_x(seconds[k], length)},{_y(np.nanmean(near))}")
    return " ".join(points)


def _columns(by_beat: Floats) -> list[dict[str, float]]:
    out: list[dict[str, float]] = []
    for i, ms in enumerate(by_beat):
        if np.isnan(ms):
            out.append({"beat": i + 1, "x": 22 * i})
            continue
        tall = float(min(24, abs(ms) * 24 / SCALE))
        out.append({"beat": i + 1, "x": 22 * i, "ms": ms, "y": 26 - tall if ms > 0 else 26, "tall": max(1, tall)})
    return out


@require_GET
def table(request: HttpRequest, pk: int) -> HttpResponse:
    """One line a felt beat: bar, beat, seconds, and each track's lean in ms."""
    session = get_object_or_404(
        Session.objects.select_related("step").prefetch_related("tracks"), pk=pk, step__isnull=False
    )
    try:
        beats, found = session.tempo_map.beats(), leans(session)
    except NotAnalysed as e:
        return HttpResponse(str(e), status=503, content_type="text/plain; charset=utf-8")
    out = io.StringIO()
    write = csv.writer(out)
    write.writerow(["bar", "beat", "seconds", *(f"{x.name} (ms)" for x in found)])
    for k in range(len(beats)):
        values = ["" if np.isnan(x.off[k]) else f"{x.off[k]:.2f}" for x in found]
        write.writerow([beats.bar[k], beats.beat[k], f"{beats.seconds[k]:.6f}", *values])
    headers = {"Content-Disposition": 'attachment; filename="lean.csv"'}
    return HttpResponse(out.getvalue(), content_type="text/csv; charset=utf-8", headers=headers)
