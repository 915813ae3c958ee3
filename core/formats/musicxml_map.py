"""The bare map as MusicXML 4.0, and the map of a score: every bar with its meter and its tempo.

W3C Music Notation Community Group, "MusicXML 4.0" (2021): ``sound`` with ``tempo`` in quarters a minute at the start of
each bar, ``rehearsal`` for sections, ``harmony`` for chords. A bar is as long as in the map; what happens inside it is
left to the other formats.
"""

from __future__ import annotations

import zipfile
from collections.abc import Iterator, Sequence
from fractions import Fraction
from pathlib import Path
from xml.etree import ElementTree as ET

import numpy as np

from core.errors import InputError
from core.formats.carried.content import Section
from core.formats.musicxml import HEADER, fifths_of
from core.formats.zips import UNREADABLE
from core.harmony.chord_line import TimedChord
from core.harmony.chords import FLAT, SHARP, Chord
from core.tempomap import Meter, MeterChange, Meters, TempoMap

#: Divisions of a quarter: every meter's bar is a whole number of them.
_DIVISIONS = 16
#: Bytes of a score that is read, at most; and bars.
_LARGEST, _MOST_BARS = 64 << 20, 20_000
#: Chord kinds of the standard (``kind-value``) and our qualities.
_KINDS = {
    "": "major", "m": "minor", "7": "dominant", "m7": "minor-seventh", "maj7": "major-seventh", "dim": "diminished",
    "aug": "augmented", "sus4": "suspended-fourth", "sus2": "suspended-second", "6": "major-sixth",
    "m6": "minor-sixth", "dim7": "diminished-seventh", "m7b5": "half-diminished", "mmaj7": "major-minor",
    "9": "dominant-ninth", "m9": "minor-ninth", "maj9": "major-ninth", "5": "power",
}  # fmt: skip
_USUAL_BPM = 120.0


class ScoreError(InputError):
    """A score that holds no map that can be read, in words for the engineer."""


def write(
    tempo_map: TempoMap,
    title: str = "",
    sections: Sequence[Section] = (),
    chords: Sequence[TimedChord] = (),
    key: str = "",
) -> str:
    """The map as a document: a part of empty bars. ``key``: like ``D minor``."""
    root = ET.Element("score-partwise", version="4.0")
    if title:
        ET.SubElement(ET.SubElement(root, "work"), "work-title").text = title
    parts = ET.SubElement(root, "part-list")
    ET.SubElement(ET.SubElement(parts, "score-part", id="P1"), "part-name").text = "Bars"
    part = ET.SubElement(root, "part", id="P1")
    first, last = tempo_map.bar_range
    bars = range(first, last + 1)
    lines = tempo_map.bar_seconds(range(first, last + 2))
    opens = {_nearest_bar(tempo_map, s.start): s.name for s in sections}
    before: Meter | None = None
    for k, bar in enumerate(bars):
        meter = tempo_map.meters.meter_at(bar)
        measure = ET.SubElement(part, "measure", number=str(bar))
        _attributes(measure, meter, before, key)
        before = meter
        direction = ET.SubElement(measure, "direction", placement="above")
        kind = ET.SubElement(direction, "direction-type")
        if bar in opens:
            ET.SubElement(kind, "rehearsal").text = opens[bar]
        else:
            ET.SubElement(kind, "words")
        ET.SubElement(direction, "sound", tempo=f"{60 * meter.quarters / (lines[k + 1] - lines[k]):.8f}")
        for chord in chords:
            if lines[k] - 1e-6 <= chord.seconds < lines[k + 1] - 1e-6:
                start = float(tempo_map.meters.bar_quarters(bar))
                _harmony(measure, chord.chord, float(tempo_map.quarters_at(chord.seconds)) - start)
        note = ET.SubElement(measure, "note")
        ET.SubElement(note, "rest", measure="yes")
        ET.SubElement(note, "duration").text = str(round(meter.quarters * _DIVISIONS))
        ET.SubElement(note, "voice").text = "1"
    ET.indent(root, " ")
    return HEADER + ET.tostring(root, encoding="unicode") + "\n"


def _nearest_bar(tempo_map: TempoMap, seconds: float) -> int:
    bar = int(tempo_map.meters.bars_at(tempo_map.quarters_at(seconds)))
    near = tempo_map.bar_seconds([bar, bar + 1])
    return bar + int(abs(near[1] - seconds) < abs(near[0] - seconds))


def _attributes(measure: ET.Element, meter: Meter, before: Meter | None, key: str) -> None:
    if meter == before:
        return
    at = ET.SubElement(measure, "attributes")
    if before is None:
        ET.SubElement(at, "divisions").text = str(_DIVISIONS)
        ET.SubElement(ET.SubElement(at, "key"), "fifths").text = str(fifths_of(key))
    time = ET.SubElement(at, "time")
    # unequal groups are written out, like 2+2+3
    uneven = len(set(meter.groups)) > 1
    ET.SubElement(time, "beats").text = "+".join(map(str, meter.groups)) if uneven else str(meter.numerator)
    ET.SubElement(time, "beat-type").text = str(meter.denominator)


def _harmony(measure: ET.Element, chord: Chord, quarters: float) -> None:
    harmony = ET.SubElement(measure, "harmony")
    names = FLAT if chord.flat else SHARP
    if chord.root is None:
        ET.SubElement(ET.SubElement(harmony, "root"), "root-step").text = "C"
        ET.SubElement(harmony, "kind", text="N.C.").text = "none"
    else:
        _named(ET.SubElement(harmony, "root"), "root", names[chord.root])
        kind = ET.SubElement(harmony, "kind")
        kind.text = _KINDS.get(chord.quality, "other")
        if kind.text == "other":
            kind.set("text", chord.quality)
        if chord.bass is not None:
            _named(ET.SubElement(harmony, "bass"), "bass", names[chord.bass])
    ET.SubElement(harmony, "offset").text = str(round(quarters * _DIVISIONS))


def _named(parent: ET.Element, what: str, name: str) -> None:
    ET.SubElement(parent, f"{what}-step").text = name[0]
    if len(name) > 1:
        ET.SubElement(parent, f"{what}-alter").text = "1" if name[1] == "#" else "-1"


# ---- reading


def read(path: Path, name: str | None = None) -> tuple[TempoMap, tuple[Section, ...]]:
    """Bars, meters, tempos and rehearsal marks of a score (``.musicxml``, ``.xml`` or ``.mxl``), from its first part;
    repeats are not unfolded. Raises :class:`ScoreError`."""
    name = name or path.name
    try:
        root = ET.fromstring(_document(path))
    except (*UNREADABLE, ET.ParseError, ValueError, LookupError, OSError):
        raise ScoreError(f"“{name}” is no MusicXML file that can be read.") from None
    part = root.find("part")
    if root.tag != "score-partwise" or part is None:
        raise ScoreError(f"“{name}” is no partwise MusicXML score.")
    try:
        return _map_of(part, name)
    except (ValueError, ZeroDivisionError, OverflowError) as e:
        raise e if isinstance(e, ScoreError) else ScoreError(f"The bars of “{name}” cannot be read.") from None


def _document(path: Path) -> bytes:
    if path.stat().st_size > _LARGEST:
        raise ValueError
    if not zipfile.is_zipfile(path):
        return path.read_bytes()
    with zipfile.ZipFile(path) as archive:
        container = ET.fromstring(archive.read("META-INF/container.xml"))
        place = next(e.get("full-path", "") for e in container.iter() if e.tag.endswith("rootfile"))
        if archive.getinfo(place).file_size > _LARGEST:
            raise ValueError
        return archive.read(place)


def _map_of(part: ET.Element, name: str) -> tuple[TempoMap, tuple[Section, ...]]:
    measures = part.findall("measure")
    if not 1 < len(measures) <= _MOST_BARS:
        raise ScoreError(f"“{name}” holds {len(measures)} bars; 2 to {_MOST_BARS} can be read.")
    first = _first_number(measures[0])
    seconds, quarters, changes, marks = [0.0], [0.0], [], []
    meter, bpm, divisions = Meter(4, 4), _USUAL_BPM, Fraction(1)
    for k, measure in enumerate(measures):
        for event in _events(measure):
            if event.tag == "divisions":
                divisions = Fraction(event.text or "1")
            elif event.tag == "time":
                meter = Meter.parse(f"{event.findtext('beats')}/{event.findtext('beat-type')}")
                changes.append(MeterChange(first + k, meter))
            elif event.tag == "sound":
                bpm = float(event.get("tempo", bpm))
            elif event.tag == "rehearsal":
                marks.append((seconds[-1], event.text or ""))
        length = float(_length(measure) / divisions)
        # a pickup is shorter than its meter; elsewhere what is written may leave out rests
        bar = length if k == 0 and first < 1 and 0 < length < meter.quarters else meter.quarters
        seconds.append(seconds[-1] + bar * 60 / bpm)
        quarters.append(quarters[-1] + bar)
    meters = Meters(tuple({c.bar: c for c in [MeterChange(1, Meter(4, 4)), *_from_bar_one(changes)]}.values()))
    second_line = float(meters.bar_quarters(first + 1))
    tempo_map = TempoMap(np.array(seconds), np.array(quarters) + second_line - quarters[1], meters)
    ends = [*(t for t, _ in marks), seconds[-1]][1:]
    return tempo_map, tuple(Section(t, end, text) for (t, text), end in zip(marks, ends, strict=False) if end > t)


def _first_number(measure: ET.Element) -> int:
    """The first bar's number: 0 for a pickup (which some programs call implicit), less for more before bar 1."""
    try:
        number = int(measure.get("number", "1"))
    except ValueError:
        number = 1
    return min(0 if measure.get("implicit") == "yes" else 1, number)


def _from_bar_one(changes: Sequence[MeterChange]) -> Iterator[MeterChange]:
    for change in changes:
        yield MeterChange(max(1, change.bar), change.meter)


def _events(measure: ET.Element) -> Iterator[ET.Element]:
    for element in measure.iter():
        if element.tag in ("divisions", "time", "rehearsal") or (element.tag == "sound" and element.get("tempo")):
            yield element


def _length(measure: ET.Element) -> Fraction:
    """How long a bar's first voice is, in divisions."""
    total, most = Fraction(0), Fraction(0)
    for element in measure:
        duration = Fraction(element.findtext("duration") or "0")
        if (element.tag == "note" and element.find("chord") is None) or element.tag == "forward":
            total += duration
        elif element.tag == "backup":
            total -= duration
        most = max(most, total)
    return most
