"""The map of any file that holds one: MIDI, tables of beats, JAMS, MusicXML, our own JSON, audio with a map or cue
points in it."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from core.audio.chunks import is_wave
from core.formats import beat_tables, musicxml_map
from core.formats.beat_tables import MapFileError
from core.formats.carried import CarriedMap, CarryError, Section, read_carried, riff
from core.formats.carried.content import FORMAT, from_text
from core.formats.song import read_map
from core.tempomap import Meters, TempoMap

#: Endings of such files, as a page offers them.
ENDINGS = (".mid", ".midi", ".csv", ".tsv", ".txt", ".jams", ".json", ".musicxml", ".mxl", ".xml", ".wav", ".flac",
           ".ogg", ".opus", ".mp3")  # fmt: skip
#: Bytes of a table, at most.
_MOST_BYTES = 32 << 20


def read_any_map(path: Path, name: str | None = None) -> TempoMap:
    """The map of a file, told apart by what is in it. Raises :class:`MapFileError` and
    :class:`core.formats.smf.MidiError`."""
    return read_with_sections(path, name).map


def read_with_sections(path: Path, name: str | None = None) -> CarriedMap:
    """The same with the sections that the file names."""
    name = name or path.name
    with path.open("rb") as file:
        head = file.read(12)
    if head[:4] == b"MThd" or (head[:4] == b"RIFF" and head[8:12] == b"RMID"):
        return CarriedMap(read_map(path, name))
    try:
        if is_wave(head) or head[:4] in (b"fLaC", b"OggS") or head[:3] == b"ID3":
            return _of_audio(path, name)
        if head[:2] == b"PK" or head.lstrip(b"\xef\xbb\xbf \r\n\t")[:1] == b"<":
            found, sections = musicxml_map.read(path, name)
            return CarriedMap(found, "", sections)
    except (CarryError, musicxml_map.ScoreError) as e:
        raise MapFileError(str(e)) from None
    if path.stat().st_size > _MOST_BYTES:
        raise MapFileError(f"“{name}” is too large for a list of beats.")
    text = path.read_bytes().decode("utf-8-sig", errors="replace")
    try:
        if text.lstrip().startswith("{") and f'"{FORMAT}"' in text:  # as it is delivered, or written anew by others
            return from_text(text)
        sections = tuple(Section(*stretch) for stretch in beat_tables.read_stretches(text))
        return CarriedMap(beat_tables.read_beats(text, name), "", sections)
    except CarryError as e:
        raise MapFileError(str(e)) from None


def _of_audio(path: Path, name: str) -> CarriedMap:
    """The map that a file carries; of a WAV file without one, its cue points as bar lines."""
    carried = read_carried(path)
    if carried:
        return carried
    with path.open("rb") as file:
        if not is_wave(file.read(12)):
            raise MapFileError(f"“{name}” carries no map.")
        wave = riff.opened(file)
    points = sorted(c.frame / wave.rate for c in wave.cues if not c.length)
    sections = [Section(c.frame / wave.rate, (c.frame + c.length) / wave.rate, c.label) for c in wave.cues if c.length]
    if len(points) < 3:
        raise MapFileError(f"“{name}” carries no map, and fewer than three cue points.")
    bars = Meters()
    lines = bars.bar_quarters(np.arange(1, len(points) + 1))
    try:
        return CarriedMap(TempoMap(np.array(points), lines, bars), "", tuple(sections))
    except ValueError:
        raise MapFileError(f"The cue points of “{name}” do not follow one another.") from None
