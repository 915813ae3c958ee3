"""What the page draws of the tracks: peaks, samples, attacks, and a track folded on the map's bars."""

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET

from core import audio
from studio.analysis.features import attacks, energy, peaks
from studio.desk.fold import fold
from studio.library.models import Session, Track
from studio.reshaping.peaks import result_peaks
from studio.reshaping.result import Result, in_clock
from studio.responses import FOR_EVER, bytes_response, json_response

#: Peaks (or samples) a drawn tile.
TILE = 4096
_TRACKS = Track.objects.select_related("session__step")


@require_GET
def peaks_tile(request: HttpRequest, pk: int, level: int, tile: int) -> HttpResponse:
    """Peaks of one track: int16 pairs, :data:`TILE` of them, at ``level`` samples a pair."""
    track = get_object_or_404(_TRACKS, pk=pk, analysed=True)
    try:
        if result := in_clock(request, track.session):
            return bytes_response(
                result_peaks(result, track, level, tile * TILE, TILE), _lasting(request, result, track)
            )
        return bytes_response(peaks(track, level, tile * TILE, TILE))
    except (KeyError, FileNotFoundError):
        raise Http404 from None


@require_GET
def samples_tile(request: HttpRequest, pk: int, tile: int) -> HttpResponse:
    """Single samples of one track, channels averaged, as float32, for the deepest zoom."""
    track = get_object_or_404(_TRACKS, pk=pk, analysed=True)
    result = in_clock(request, track.session)
    if result:
        found = result.read(track, tile * TILE, TILE)
        return bytes_response(audio.mono(found).tobytes(), _lasting(request, result, track))
    return bytes_response(audio.mono(audio.read(track.playback, tile * TILE, TILE)).tobytes())


def _lasting(request: HttpRequest, result: Result, track: Track) -> str:
    """What was asked for may be kept for ever; where the track was reshaped again meanwhile, not at all."""
    return FOR_EVER if result.version(track.pk) == request.GET["clock"] else "private, no-store"


@require_GET
def track_attacks(request: HttpRequest, pk: int) -> HttpResponse:
    """All attacks of a track: seconds and strengths (0 to 1)."""
    track = get_object_or_404(_TRACKS, pk=pk, analysed=True)
    result = in_clock(request, track.session)
    found = result.attacks(track) if result else attacks(track)
    return json_response({"seconds": found.seconds.round(6), "strength": found.strength.round(3)})


@require_GET
def folded(request: HttpRequest, pk: int, track: int) -> HttpResponse:
    """A track cut at every bar line of the session's map: see :func:`studio.desk.fold.fold`."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    if session.step is None:
        return json_response({"bars": []})
    chosen = get_object_or_404(session.tracks, pk=track, analysed=True)
    return json_response(fold(session.tempo_map, energy(chosen), attacks(chosen)))
