"""A map written in other formats and read back, by us and by readers that know nothing of us.

Published: MusicXML 4.0 (W3C 2021) and its schema; JAMS (Humphrey and others 2014) and its schemas; chord syntax of
Harte and others 2005; WebVTT (W3C 2019).
"""

import json
import re
import tempfile
from pathlib import Path
from unittest import TestCase

import jams
import music21
import numpy as np
import soundfile as sf

from core.audio import chunks
from core.formats import jams as our_jams
from core.formats import musicxml_map, timed_text
from core.formats.beat_tables import MapFileError, read_beats
from core.formats.carried import CarriedMap, Section, carry, read_carried
from core.formats.carried.content import to_text
from core.formats.map_files import read_any_map, read_with_sections
from core.harmony.chord_line import TimedChord
from core.harmony.chords import QUALITIES, Chord
from core.tempomap import Meters, TempoMap
from tests.core.test_notation import keep_to_schema

METERS = Meters.of((1, "4/4"), (3, "3/4"), (5, "6/8"))
MAP = TempoMap.from_beats(1 + np.cumsum(0.5 + 0.02 * np.sin(np.arange(30))), -1, METERS)
SECONDS = 20.0
LINES = MAP.bar_seconds(range(1, 9))
SECTIONS = (
    Section(float(LINES[0]), float(LINES[3]), "Verse"),
    Section(float(LINES[3]), float(LINES[6]), "Köder & <Rest>"),
)
CHORDS = [
    TimedChord(float(LINES[0]), Chord.parse("Dm7/A"), 0.9),
    TimedChord(float(MAP.seconds_of_beat(2)), Chord.parse("Bb"), 0.6),
    TimedChord(float(LINES[2]), Chord.parse("N.C."), None),
]


class InFolder(TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def kept(self, name, text):
        path = self.folder / name
        path.write_text(text, encoding="utf-8")
        return path


class Jams(InFolder):
    def read(self):
        text = our_jams.write(MAP, SECONDS, "Täke", SECTIONS, CHORDS)
        return jams.load(str(self.kept("take.jams", text)), strict=True)

    def test_it_keeps_to_the_published_schemas(self):
        found = self.read()
        self.assertTrue(found.validate(strict=True))
        names = {a.namespace for a in found.annotations}
        self.assertEqual(names, {"beat", "beat_position", "segment_open", "chord", "tempo"})

    def test_beats_sections_and_chords_are_what_they_were(self):
        found, beats = self.read(), MAP.beats()
        places = found.search(namespace="beat_position")[0]
        inside = beats.seconds <= SECONDS
        np.testing.assert_allclose([o.time for o in places.data], beats.seconds[inside], atol=1e-9)
        self.assertEqual([o.value["position"] for o in places.data], beats.beat[inside].tolist())
        # a felt beat of 6/8 is a dotted quarter, and there are two of them
        self.assertEqual(next(o.value["num_beats"] for o in places.data if o.value["measure"] == 5), 2)
        sections = found.search(namespace="segment_open")[0].data
        self.assertEqual([(o.time, o.value) for o in sections], [(s.start, s.name) for s in SECTIONS])
        sung = found.search(namespace="chord")[0].data
        self.assertEqual([o.value for o in sung], ["D:min7/5", "Bb:maj", "N"])
        self.assertAlmostEqual(sung[0].time + sung[0].duration, sung[1].time)

    def test_every_quality_is_a_chord_to_mir_eval(self):
        """Its parser follows Harte's syntax; the tones of both are the same (it has no bits for ninths)."""
        import mir_eval

        for quality, tones in QUALITIES.items():
            text = our_jams.harte(Chord.parse(f"C{quality}"))
            root, bits, _ = mir_eval.chord.encode(text, reduce_extended_chords=False)
            with self.subTest(quality):
                self.assertEqual(root, 0)
                self.assertEqual(set(np.flatnonzero(bits)), {t for t in tones if t < 12})

    def test_we_read_it_back(self):
        back = read_beats(our_jams.write(MAP, SECONDS), "take.jams").beats()
        ours = MAP.beats()
        count = min(len(back), len(ours)) - 1
        np.testing.assert_allclose(back.seconds[:count], ours.seconds[:count], atol=1e-9)
        np.testing.assert_array_equal(back.bar[1:count], ours.bar[1:count])


class Score(InFolder):
    @classmethod
    def setUpClass(cls):
        cls.text = musicxml_map.write(MAP, "Täke", SECTIONS, CHORDS, "D minor")

    def test_it_keeps_to_the_w3c_schema(self):
        keep_to_schema(self.text)

    def test_music21_reads_bars_meters_chords_and_marks(self):
        score = music21.converter.parse(self.text, format="musicxml")
        bars = list(score.parts[0].getElementsByClass("Measure"))
        first, last = MAP.bar_range
        self.assertEqual([b.number for b in bars], list(range(first, last + 1)))
        signs = {b.number: b.timeSignature.ratioString for b in bars if b.timeSignature}
        self.assertEqual({k: v for k, v in signs.items() if k > 0}, {3: "3/4", 5: "6/8"})
        marks = [m.content for m in score.recurse().getElementsByClass("RehearsalMark")]
        self.assertEqual(marks, [s.name for s in SECTIONS])
        symbols = [c.figure for c in score.recurse().getElementsByClass("ChordSymbol")]
        self.assertEqual(symbols[:2], ["Dm7/A", "B-"])
        self.assertEqual(score.recurse().getElementsByClass("KeySignature").first().sharps, -1)

    def test_bar_lines_come_back_within_a_hundredth_of_a_millisecond(self):
        back, sections = musicxml_map.read(self.kept("map.musicxml", self.text))
        first, last = MAP.bar_range
        bars = np.arange(first, last + 2)
        ours, found = MAP.bar_seconds(bars), back.bar_seconds(bars)
        np.testing.assert_allclose(found - found[0], ours - ours[0], atol=1e-5)
        self.assertEqual([s.name for s in sections], [s.name for s in SECTIONS])

    def test_an_hour_does_not_drift(self):
        times = np.cumsum(np.random.default_rng(1).uniform(0.45, 0.55, 7200))
        long = TempoMap.from_beats(times)
        back = read_any_map(self.kept("hour.musicxml", musicxml_map.write(long)))
        bars = np.arange(1, 1801)
        off = (back.bar_seconds(bars) - back.bar_seconds(1)) - (long.bar_seconds(bars) - long.bar_seconds(1))
        self.assertLess(np.abs(off).max(), 1e-4)

    def test_a_score_of_another_program_with_a_pickup(self):
        """Written by music21: a quarter before bar 1, 3/4, then 4/4 at another tempo."""
        part = music21.stream.Part()
        pickup = music21.stream.Measure(number=0)
        pickup.append([music21.meter.TimeSignature("3/4"), music21.tempo.MetronomeMark(number=90)])
        pickup.append(music21.note.Note("D4", quarterLength=1))
        pickup.paddingLeft = 2
        one, two, three = (music21.stream.Measure(number=n) for n in (1, 2, 3))
        one.append(music21.note.Note("E4", quarterLength=3))
        two.append([music21.meter.TimeSignature("4/4"), music21.tempo.MetronomeMark(number=120)])
        two.append(music21.note.Note("F4", quarterLength=4))
        three.append(music21.note.Note("F4", quarterLength=4))
        part.append([pickup, one, two, three])
        path = self.folder / "score.mxl"
        music21.stream.Score([part]).write("mxl", path)
        found = read_any_map(path)
        np.testing.assert_allclose(found.bar_seconds([1, 2, 3]), [60 / 90, 60 / 90 * 4, 60 / 90 * 4 + 2], atol=1e-6)
        self.assertEqual(str(found.meters.meter_at(2)), "4/4")

    def test_what_is_no_score_says_so(self):
        wrong = {"a.xml": "<a><b></a>", "b.musicxml": "<score-timewise/>", "c.xml": "<!DOCTYPE html><p>"}
        for name, text in wrong.items():
            with self.subTest(name), self.assertRaisesRegex(MapFileError, name):
                read_any_map(self.kept(name, text))


class TimedText(InFolder):
    def test_a_label_track_is_read_back(self):
        back = read_beats(timed_text.label_track(MAP, beats=True), "beats.txt").beats()
        ours = MAP.beats()
        np.testing.assert_allclose(back.seconds[: len(ours)], ours.seconds, atol=1e-6)
        lines = timed_text.label_track(MAP, SECTIONS).splitlines()
        self.assertEqual(lines[-1].split("\t")[2], "Köder & <Rest>")
        # the pickup's bar has no line of its own
        self.assertEqual(len(lines), np.count_nonzero(ours.beat == 1) + len(SECTIONS))

    def test_chapters_follow_the_grammar_of_webvtt(self):
        """From memory of the standard: the file's first line, a blank line, then cues: an identifier, times with
        milliseconds parted by an arrow, text without ``-->``, ``&`` or ``<`` of its own."""
        time = r"(\d\d):(\d\d):(\d\d)\.(\d\d\d)"
        text = timed_text.chapters(SECTIONS)
        self.assertRegex(text, rf"\AWEBVTT\n\n(\d+\n{time} --> {time}\n[^<\n]+\n\n?)+\Z")
        self.assertIn("Köder &amp; &lt;Rest&gt;", text)
        found = re.findall(time + " -->", text)
        starts = [int(h) * 3600 + int(m) * 60 + int(s) + int(ms) / 1000 for h, m, s, ms in found]
        np.testing.assert_allclose(starts, [s.start for s in SECTIONS], atol=0.0005)

    def test_every_bar_has_a_cue_with_its_tempo(self):
        text = timed_text.bars_vtt(MAP, SECONDS)
        first, last = MAP.bar_range
        self.assertEqual(len(re.findall(r"^Bar ", text, re.MULTILINE)), last - first + 1)
        length = float(LINES[1] - LINES[0])
        self.assertIn(f"Bar 1, {240 / length:.1f}\n", text)


class Audio(InFolder):
    def setUp(self):
        super().setUp()
        sf.write(self.folder / "take.wav", np.zeros(48_000 * 12), 48_000)

    def test_a_file_that_carries_a_map(self):
        carry(self.folder / "take.wav", self.folder / "with.wav", CarriedMap(MAP, "x", SECTIONS))
        found = read_with_sections(self.folder / "with.wav")
        self.assertEqual((found.map, found.sections), (MAP, SECTIONS))

    def test_a_map_that_was_delivered_as_json_comes_back_to_the_bit(self):
        text = to_text(CarriedMap(MAP, "x", SECTIONS))
        self.assertEqual(read_with_sections(self.kept("map.json", text)), CarriedMap(MAP, "x", SECTIONS))
        anew = json.dumps(json.loads(text), indent=2, sort_keys=True)
        self.assertEqual(read_any_map(self.kept("anew.json", anew)), MAP)
        for wrong, words in ((text[:-9], "damaged"), (text.replace('"version":1', '"version":99'), "newer")):
            with self.assertRaisesRegex(MapFileError, words):
                read_any_map(self.kept("wrong.json", wrong))

    def test_our_label_track_comes_back_with_its_sections(self):
        found = read_with_sections(self.kept("labels.txt", timed_text.label_track(MAP, SECTIONS)))
        first, last = MAP.bar_range
        bars = np.arange(max(1, first), last)
        np.testing.assert_allclose(found.map.bar_seconds(bars), MAP.bar_seconds(bars), atol=1e-6)
        self.assertEqual([s.name for s in found.sections], [s.name for s in SECTIONS])
        # as others write it: with decimal commas, and with what is no time
        commas = timed_text.label_track(MAP, SECTIONS).replace(".", ",") + "3,5\tinf\tto the end\nnan\t4,5\tnowhere\n"
        self.assertEqual(read_with_sections(self.kept("commas.txt", commas)), found)
        np.testing.assert_allclose([s.end for s in found.sections], [s.end for s in SECTIONS], atol=1e-6)

    def test_cue_points_of_another_program_are_bar_lines(self):
        data = bytearray((self.folder / "take.wav").read_bytes())
        lines = [24_000, 120_480, 217_000, 310_000]
        data += chunks.cue_points([(k + 1, f) for k, f in enumerate(lines)])
        data[4:8] = (len(data) - 8).to_bytes(4, "little")
        (self.folder / "cues.wav").write_bytes(data)
        found = read_any_map(self.folder / "cues.wav")
        np.testing.assert_allclose(found.bar_seconds(range(1, 5)), np.array(lines) / 48_000)

    def test_without_either_it_says_so(self):
        with self.assertRaisesRegex(MapFileError, "carries no map"):
            read_any_map(self.folder / "take.wav")


class CutOff(InFolder):
    """What the fuzzer found (tests/torture/fuzz.py)."""

    def test_files_that_end_in_their_first_bytes(self):
        for start in (
            b"ID3",
            b"ID3\x04\x00\x00\x00",
            b"fLaC",
            b"OggS",
            b"RIFF",
            b"RF64",
            b"PK\x03\x04",
            b"<",
            b"{",
            b"",
        ):
            with self.subTest(start=start):
                path = self.folder / "file.mp3"
                path.write_bytes(start)
                with self.assertRaises(MapFileError):
                    read_any_map(path)
                self.assertIsNone(read_carried(path))
