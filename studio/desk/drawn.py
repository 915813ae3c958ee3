"""What the page draws: peaks, samples, attacks, and the fold of a track on the map's bars."""

from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET

from core.listening import audio
from studio.desk.answers import answer, raw
from studio.desk.fold import fold
from studio.library.hearing import attacks, energy, peaks
from studio.library.models import Session, Track

#: Peaks (or samples) a drawn tile.
TILE = 4096


@require_GET
def peaks_tile(request, pk, level, tile):
    """Peaks of one track: int16 pairs, :data:`TILE` of them, at ``level`` samples a pair."""
    track = get_object_or_404(Track, pk=pk, heard=True)
    try:
        return raw(peaks(track, level, tile * TILE, TILE))
    except (KeyError, FileNotFoundError):
        raise Http404 from None


@require_GET
def samples_tile(request, pk, tile):
    """Single samples of one track, channels averaged, as float32, for the deepest zoom."""
    track = get_object_or_404(Track, pk=pk, heard=True)
    return raw(audio.read(track.playback, tile * TILE, TILE).mean(axis=1).tobytes())


@require_GET
def track_attacks(request, pk) -> HttpResponse:
    """All attacks of a track: seconds and strengths (0 to 1)."""
    found = attacks(get_object_or_404(Track, pk=pk, heard=True))
    return answer({"seconds": found.seconds.round(6), "strength": found.strength.round(3)})


@require_GET
def folded(request, pk, track) -> HttpResponse:
    """A track cut at every bar line of the session's map: see :func:`studio.desk.fold.fold`."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    if session.step is None:
        return answer({"bars": []})
    heard = get_object_or_404(session.tracks, pk=track, heard=True)
    return answer(fold(session.step.tempo_map, energy(heard), attacks(heard)))
