"""A session that starts from a programmed song: a MIDI file's tempo map, and its notes as parts that ride the bars."""

from __future__ import annotations

import tempfile
from pathlib import Path

from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.urls import reverse
from django.views.decorators.http import require_POST

from core.audio.files import LONGEST_SEC
from core.audio.naming import session_name
from core.formats.smf import MidiError
from core.formats.song import Song, read_map, read_song
from core.tempomap import TempoMap
from studio.desk.history import record
from studio.library.models import Session
from studio.library.uploads import clean_name
from studio.parts import part_history


@require_POST
def start_from_song(request: HttpRequest) -> HttpResponse:
    """Make the session; 422 with a sentence where the file holds no song."""
    file = request.FILES.get("file")
    if not isinstance(file, UploadedFile):
        return JsonResponse({"error": "Choose a MIDI file first."}, status=422)
    name = clean_name(file.name or "song.mid")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "song.mid"
        with path.open("wb") as out:
            out.writelines(file.chunks())
        try:
            tempo_map, song = read_map(path, name), _song(path, name)
        except MidiError as e:
            return JsonResponse({"error": str(e)}, status=422)
    if song is None and len(tempo_map.beats()) < FEWEST_BEATS:
        return JsonResponse({"error": f"“{name}” holds neither notes nor a tempo map."}, status=422)
    if tempo_map.seconds[-1] > LONGEST_SEC:
        return JsonResponse(
            {"error": f"“{name}” lasts longer than {LONGEST_SEC // 3600} hours; that is no song."}, status=422
        )
    session = session_of_song(name, tempo_map, song)
    return JsonResponse({"id": session.pk, "url": reverse("desk", args=[session.pk])})


def session_of_song(name: str, tempo_map: TempoMap, song: Song | None) -> Session:
    """A session with the song's map as its first step, and a part for each of its instruments."""
    with transaction.atomic():
        session = Session.objects.create(title=session_name([name]), song_seconds=float(tempo_map.seconds[-1]) + TAIL)
        session.folder.mkdir(parents=True, exist_ok=True)
        record(session, tempo_map, f"The map of {name}")
        if song:
            part_history.make_all(session, song, name)
    return session


#: A shorter map without notes is what an empty file is read as.
FEWEST_BEATS = 3
#: Seconds that the song may ring on behind its last event.
TAIL = 2.0


def _song(path: Path, name: str) -> Song | None:
    """The notes of a file; None where it has a map only."""
    try:
        return read_song(path, name)
    except MidiError:
        return None
