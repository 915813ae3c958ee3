"""Notation as MusicXML 4.0 (W3C Music Notation Community Group, 2021), a partwise score of one part."""

from __future__ import annotations

from collections.abc import Sequence
from xml.etree import ElementTree as ET

from core.parts.notation import UNITS, Bar, WrittenNote
from core.tempomap import Meter

_SHARP = ("C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B")
_FLAT = ("C", "Db", "D", "Eb", "E", "F", "Gb", "G", "Ab", "A", "Bb", "B")
#: Where a drum stands in the percussion staff: step, octave, and whether its head is a cross (common practice).
_DRUMS = {36: ("F", 4, False), 35: ("F", 4, False), 38: ("C", 5, False), 37: ("C", 5, True), 39: ("C", 5, True),
          42: ("G", 5, True), 46: ("G", 5, True), 51: ("F", 5, True), 49: ("A", 5, True), 45: ("A", 4, False),
          48: ("E", 5, False), 70: ("B", 5, True)}  # fmt: skip
HEADER = (
    '<?xml version="1.0" encoding="UTF-8"?>\n<!DOCTYPE score-partwise PUBLIC '
    '"-//Recordare//DTD MusicXML 4.0 Partwise//EN" "http://www.musicxml.org/dtds/partwise.dtd">\n'
)


def write(
    bars: Sequence[Bar],
    name: str = "Part",
    fifths: int = 0,
    percussion: bool = False,
    bpm: float | None = None,
    low: bool = False,
) -> str:
    """The bars as a document. ``fifths``: sharps (negative: flats) of the key; ``bpm``: felt beats a minute at the
    start; ``low``: a single staff stands in the bass clef."""
    root = ET.Element("score-partwise", version="4.0")
    parts = ET.SubElement(root, "part-list")
    ET.SubElement(ET.SubElement(parts, "score-part", id="P1"), "part-name").text = name
    part = ET.SubElement(root, "part", id="P1")
    meter: Meter | None = None
    for i, bar in enumerate(bars):
        measure = ET.SubElement(part, "measure", number=str(bar.number))
        if i == 0 or bar.meter != meter:
            _attributes(measure, bar, i == 0, fifths, percussion, low)
            meter = bar.meter
        if i == 0 and bpm:
            _tempo(measure, bar.meter, bpm)
        for staff, run in enumerate(bar.staves):
            if staff:
                ET.SubElement(ET.SubElement(measure, "backup"), "duration").text = str(bar.units)
            for w in run:
                _note_or_rest(measure, w, staff + 1 if len(bar.staves) > 1 else 0, fifths, percussion, bar.units)
    ET.indent(root, " ")
    return HEADER + ET.tostring(root, encoding="unicode") + "\n"


def _attributes(measure: ET.Element, bar: Bar, first: bool, fifths: int, percussion: bool, low: bool) -> None:
    at = ET.SubElement(measure, "attributes")
    if first:
        ET.SubElement(at, "divisions").text = str(UNITS)
        ET.SubElement(ET.SubElement(at, "key"), "fifths").text = str(0 if percussion else fifths)
    time = ET.SubElement(at, "time")
    ET.SubElement(time, "beats").text = str(bar.meter.numerator)
    ET.SubElement(time, "beat-type").text = str(bar.meter.denominator)
    if not first:
        return
    two = len(bar.staves) > 1
    if two:
        ET.SubElement(at, "staves").text = "2"
    clefs = (
        [("percussion", None)]
        if percussion
        else [("G", "2"), ("F", "4")]
        if two
        else [("F", "4") if low else ("G", "2")]
    )
    for i, (sign, line) in enumerate(clefs):
        clef = ET.SubElement(at, "clef", {"number": str(i + 1)} if two else {})
        ET.SubElement(clef, "sign").text = sign
        if line:
            ET.SubElement(clef, "line").text = line


def _tempo(measure: ET.Element, meter: Meter, bpm: float) -> None:
    felt = float(meter.beat_offsets[1])
    unit, dotted = {1.5: ("quarter", True), 0.5: ("eighth", False), 2.0: ("half", False)}.get(felt, ("quarter", False))
    direction = ET.SubElement(measure, "direction", placement="above")
    mark = ET.SubElement(ET.SubElement(direction, "direction-type"), "metronome")
    ET.SubElement(mark, "beat-unit").text = unit
    if dotted:
        ET.SubElement(mark, "beat-unit-dot")
    ET.SubElement(mark, "per-minute").text = f"{bpm:.0f}"
    ET.SubElement(direction, "sound", tempo=f"{bpm * felt:.2f}")


def _note_or_rest(measure: ET.Element, w: WrittenNote, staff: int, fifths: int, percussion: bool, units: int) -> None:
    for i, pitch in enumerate(w.pitches or (None,)):
        note = ET.SubElement(measure, "note")
        if i:
            ET.SubElement(note, "chord")
        if pitch is None:
            ET.SubElement(note, "rest", {"measure": "yes"} if w.length == units else {})
        elif percussion:
            _unpitched(note, pitch)
        else:
            _pitch(note, pitch, fifths)
        ET.SubElement(note, "duration").text = str(w.length)
        ties = [t for t, on in (("stop", w.from_before), ("start", w.to_next)) if on and pitch is not None]
        for t in ties:
            ET.SubElement(note, "tie", type=t)
        ET.SubElement(note, "voice").text = str(1 + 4 * max(0, staff - 1))
        ET.SubElement(note, "type").text = w.kind
        for _ in range(w.dots):
            ET.SubElement(note, "dot")
        if w.triplet:
            change = ET.SubElement(note, "time-modification")
            ET.SubElement(change, "actual-notes").text = "3"
            ET.SubElement(change, "normal-notes").text = "2"
        if percussion and pitch is not None and _DRUMS.get(pitch, ("", 0, False))[2]:
            ET.SubElement(note, "notehead").text = "x"
        if staff:
            ET.SubElement(note, "staff").text = str(staff)
        for level, beam in enumerate(w.beams if not i else ()):
            ET.SubElement(note, "beam", number=str(level + 1)).text = beam
        if ties or (w.group and not i):
            signs = ET.SubElement(note, "notations")
            for t in ties:
                ET.SubElement(signs, "tied", type=t)
            if w.group and not i:
                ET.SubElement(signs, "tuplet", type="start" if w.group > 0 else "stop")


def _pitch(note: ET.Element, pitch: int, fifths: int) -> None:
    name = (_FLAT if fifths < 0 else _SHARP)[pitch % 12]
    out = ET.SubElement(note, "pitch")
    ET.SubElement(out, "step").text = name[0]
    if len(name) > 1:
        ET.SubElement(out, "alter").text = "1" if name[1] == "#" else "-1"
    ET.SubElement(out, "octave").text = str(pitch // 12 - 1)


def _unpitched(note: ET.Element, pitch: int) -> None:
    step, octave, _ = _DRUMS.get(pitch, ("B", 4, False))
    out = ET.SubElement(note, "unpitched")
    ET.SubElement(out, "display-step").text = step
    ET.SubElement(out, "display-octave").text = str(octave)


def fifths_of(key: str) -> int:
    """Sharps (negative: flats) of a key named like ``D minor`` or ``Eb major``; 0 for none."""
    if not key:
        return 0
    tonic, _, mode = key.partition(" ")
    names = _FLAT if "b" in tonic else _SHARP
    place = (names.index(tonic) + (3 if mode == "minor" else 0)) % 12
    count = place * 7 % 12
    return count - 12 if count > 6 else count
