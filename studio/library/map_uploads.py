"""A file with a map that a form of the page brings."""

from __future__ import annotations

import tempfile
from dataclasses import replace
from pathlib import Path

from django.core.files.uploadedfile import UploadedFile
from django.http import HttpRequest

from core.formats.beat_tables import MapFileError
from core.formats.carried import CarriedMap
from core.formats.map_files import ENDINGS, read_with_sections
from core.formats.smf import MidiError
from studio.library.uploads import clean_name

#: What a file field takes (the ``accept`` of its input).
ACCEPT = ",".join(ENDINGS)


def read_map_upload(request: HttpRequest) -> CarriedMap:
    """The map of the request's file, with the file's name as its title. Raises :class:`MapFileError` with a sentence
    for the engineer, also where no file came."""
    file = request.FILES.get("file")
    if not isinstance(file, UploadedFile):
        raise MapFileError("Choose a file with a map: MIDI, CSV, a label track, JAMS, MusicXML, or audio.")
    name = clean_name(file.name or "map")
    with tempfile.NamedTemporaryFile(suffix=Path(name).suffix) as kept:
        for chunk in file.chunks():
            kept.write(chunk)
        kept.flush()
        try:
            return replace(read_with_sections(Path(kept.name), name), title=name)
        except MidiError as e:
            raise MapFileError(str(e)) from None
