"""Single files made from a map: what each is, how exact, and how it is made."""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from core.formats import jams, musicxml_map, sheet, smf, tables, timed_text
from core.formats.carried.content import to_text
from core.formats.song import PartToWrite, write_song
from studio.analysis.models import latest
from studio.delivery.content import carried_of, chords_of, harmony_of, sections_of
from studio.library.models import Session


@dataclass(frozen=True)
class Document:
    """``key``: in addresses; ``name``: what the page calls it; ``file``: how its file's name ends; ``kind``: its media
    type; ``words``: what it holds and how exact it is; ``make`` raises :class:`core.formats.smf.MidiError`."""

    key: str
    name: str
    file: str
    kind: str
    words: str
    make: Callable[[Session], bytes]


def _midi(session: Session, bars: bool = False, count_in: int | None = None) -> smf.WrittenMidi:
    tempo_map, later = session.tempo_map, 0.0
    if count_in is not None:
        tempo_map, later = smf.with_count_in(tempo_map, count_in)
    sections = [(s.start + later, s.name) for s in sections_of(session)]
    chords = [(c.seconds + later, str(c.chord)) for c in chords_of(session) if c.seconds + later >= 0]
    harmony = harmony_of(session)
    return smf.write(tempo_map, session.title, sections, bars, chords, harmony.key if harmony else "")


def counted_midi(session: Session, bars: int) -> bytes:
    """The map as a MIDI file that begins so many bars before bar 1. Raises :class:`core.formats.smf.MidiError`."""
    return _saved(_midi(session, count_in=bars).file)


def _saved(file: Any) -> bytes:
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


def _song(session: Session) -> bytes:
    parts = [
        PartToWrite(p.name, p.program, p.instrument == "drums", p.now.stored())
        for p in session.parts.filter(gone=False).select_related("step")
        if not p.is_loop
    ]
    return _saved(write_song(_midi(session), session.tempo_map, parts))


def _jams(session: Session) -> bytes:
    beats, sure = session.tempo_map.beats(), latest(session, "confidence")["confidence"]
    confidence = dict(zip(beats.index.tolist(), sure, strict=True)) if len(sure) == len(beats) else None
    text = jams.write(
        session.tempo_map, session.seconds, session.title, sections_of(session), chords_of(session), confidence
    )
    return text.encode()


def _chart(session: Session) -> bytes:
    harmony = harmony_of(session)
    key = harmony.key if harmony else ""
    return musicxml_map.write(session.tempo_map, session.title, sections_of(session), chords_of(session), key).encode()


def _sheet(session: Session) -> sheet.Sheet:
    holds = session.marks.filter(kind="hold").values_list("start", flat=True)
    return sheet.Sheet(session.title, session.tempo_map, sections_of(session), list(holds))


_XML = "application/vnd.recordare.musicxml+xml"
_TEXT, _VTT = "text/plain; charset=utf-8", "text/vtt; charset=utf-8"
DOCUMENTS = {
    d.key: d
    for d in (
        Document("map.mid", "Tempo map, MIDI file", "map.mid", "audio/midi",
                 "Tempo, meters, your sections as markers, key and chords as text.", lambda s: _saved(_midi(s).file)),
        Document("bars.mid", "The same with a marker a bar", "map with bars.mid", "audio/midi",
                 "For programs that show markers and hide tempo.", lambda s: _saved(_midi(s, True).file)),
        Document("song.mid", "Map and parts, MIDI file", "map and parts.mid", "audio/midi",
                 "With a track for each part that holds notes, General MIDI programs kept.", _song),
        Document("beats.csv", "Beats, CSV", "beats.csv", "text/csv; charset=utf-8",
                 "Time, bar, beat and tempo of every beat, to the microsecond.",
                 lambda s: tables.beats_csv(s.tempo_map).encode()),
        Document("labels.txt", "Bars and sections, label track", "labels.txt", _TEXT,
                 "Start, end and label a line, parted by tabs, to the microsecond.",
                 lambda s: timed_text.label_track(s.tempo_map, sections_of(s)).encode()),
        Document("map.jams", "Everything, JAMS", "map.jams", "application/json",
                 "Beats, bars, sections, chords and tempo for research programs, exact.", _jams),
        Document("chart.musicxml", "Chart, MusicXML", "chart.musicxml", _XML,
                 "Empty bars with tempo, meters, sections and chords; bar lines within 0.01 ms.", _chart),
        Document("map.pdf", "The take on one page, PDF", "map.pdf", "application/pdf",
                 "For the music stand: bars, tempo, meters, sections, holds.", lambda s: sheet.pdf(_sheet(s))),
        Document("map.svg", "The same, SVG", "map.svg", "image/svg+xml",
                 "To be drawn on.", lambda s: sheet.svg(_sheet(s)).encode()),
        Document("chapters.vtt", "Sections as chapters, WebVTT", "chapters.vtt", _VTT,
                 "For film and web players, to the millisecond.",
                 lambda s: timed_text.chapters(sections_of(s)).encode()),
        Document("bars.vtt", "Bar and tempo as captions, WebVTT", "bars.vtt", _VTT,
                 "Shows bar number and tempo over a picture, to the millisecond.",
                 lambda s: timed_text.bars_vtt(s.tempo_map, s.seconds).encode()),
        Document("map.json", "The map as we keep it, JSON", "map.json", "application/json",
                 "Every number exact; docs/map.schema.json says what it holds.",
                 lambda s: to_text(carried_of(s)).encode()),
    )
}  # fmt: skip
