"""Notation: the published schema accepts it, another library counts the same bars, it reads well where it should."""

import re
from functools import cache
from importlib.util import find_spec
from pathlib import Path
from unittest import TestCase

import music21
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from lxml import etree

from core.demo import others
from core.formats import musicxml
from core.notes import ScoreNote, to_score
from core.parts.notation import UNITS, notate, readability
from core.tempomap import Meters, TempoMap

METERS = Meters.of((1, "4/4"), (3, "6/8"), (5, "2+2+3/8"), (7, "3/4"))
#: The W3C's MusicXML 4.0 schema, as the package musicxml carries it.
SCHEMA = Path(find_spec("musicxml").origin).parent / "generate_classes" / "musicxml_4_0.xsd"


@cache
def schema():
    """Without what it refers to elsewhere (links and languages), which would be fetched from the network."""
    text = SCHEMA.read_text(encoding="utf-8")
    text = re.sub(r"<xs:import [^>]*/>", "", text)
    text = re.sub(r'<xs:attribute ref="(xlink|xml):[^>]*/>', "", text)
    return etree.XMLSchema(etree.fromstring(text.encode()))


def keep_to_schema(text):
    """Raises ``lxml.etree.DocumentInvalid`` where a score does not."""
    schema().assertValid(etree.fromstring(re.sub(r"<!DOCTYPE[^>]*>", "", text).encode()))


class AsMusicXML(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.performance = others.rubato()
        m = cls.performance.truth
        cls.bars = notate(to_score(m, cls.performance.notes), m.meters, 0, 32)

    def test_the_schema_accepts_it(self):
        keep_to_schema(musicxml.write(self.bars, "Keys & <strings>", -1, bpm=78))
        odd = [
            ScoreNote(b, o, d, p, 80)
            for b in range(1, 9)
            for o, d, p in ((0, 1.1, 60), (0.33, 0.3, 64), (1.5, 0.9, 40))
        ]
        for staves in (1, 2):
            keep_to_schema(musicxml.write(notate(odd, METERS, 1, 8, staves), fifths=2, bpm=60, low=True))
        keep_to_schema(musicxml.write(notate(odd, METERS, 1, 8, 1), percussion=True))
        keep_to_schema(musicxml.write(notate([], METERS, 1, 3), "Empty"))
        broken = musicxml.write(self.bars).replace("<duration>", "<lasts>").replace("</duration>", "</lasts>")
        with self.assertRaises(etree.DocumentInvalid):
            keep_to_schema(broken)

    def test_music21_counts_every_bar(self):
        score = music21.converter.parseData(musicxml.write(self.bars, "Keys"), format="musicxml")
        for staff in score.parts:
            measures = list(staff.getElementsByClass("Measure"))
            self.assertEqual([m.number for m in measures], [b.number for b in self.bars])
            for m in measures:
                self.assertAlmostEqual(float(m.duration.quarterLength), 3.0)
        upper, lower = score.parts
        count = lambda part: sum(len(n.pitches) for n in part.recurse().notes if not n.tie or n.tie.type == "start")  # noqa: E731
        self.assertEqual(count(upper) + count(lower), len(self.performance.notes))

    def test_odd_meters_bar_by_bar(self):
        notes = [ScoreNote(b, 0.5 * k, 0.5, 60 + k, 80) for b in range(1, 9) for k in range(6)]
        score = music21.converter.parseData(musicxml.write(notate(notes, METERS, 1, 8, 1)), format="musicxml")
        lengths = [float(m.duration.quarterLength) for m in score.parts[0].getElementsByClass("Measure")]
        self.assertEqual(lengths, [4, 4, 3, 3, 3.5, 3.5, 3, 3])
        signs = [t.ratioString for t in score.recurse().getElementsByClass("TimeSignature")]
        self.assertEqual(signs, ["4/4", "6/8", "7/8", "3/4"])

    def test_the_standard_s_first_example(self):
        # MusicXML 4.0 tutorial, "Hello World": one bar of 4/4 on G2 with C4 as a whole note that lasts four
        # times the divisions of a quarter
        text = musicxml.write(notate([ScoreNote(1, 0, 4, 60, 80)], Meters(), 1, 1, 1), "Music")
        for piece in (
            "<beats>4</beats>", "<beat-type>4</beat-type>", "<sign>G</sign>", "<line>2</line>", "<step>C</step>",
            "<octave>4</octave>", "<type>whole</type>", f"<duration>{4 * UNITS}</duration>",
            f"<divisions>{UNITS}</divisions>",
        ):  # fmt: skip
            self.assertIn(piece, text)

    def test_keys(self):
        # the circle of fifths (common practice)
        for key, fifths in {
            "C major": 0,
            "A minor": 0,
            "D minor": -1,
            "E major": 4,
            "Eb major": -3,
            "F# minor": 3,
            "": 0,
        }.items():
            self.assertEqual(musicxml.fifths_of(key), fifths, key)


class Values(TestCase):
    def one(self, notes, meters=None, bar=1):
        return [(w.kind, w.dots, bool(w.pitches)) for w in notate(notes, meters or Meters(), bar, bar, 1)[0].staves[0]]

    def note(self, offset, length, pitch=60):
        return ScoreNote(1, offset, length, pitch, 80)

    def test_plain_values(self):
        self.assertEqual(self.one([self.note(0, 4)]), [("whole", 0, True)])
        self.assertEqual(self.one([self.note(0, 3), self.note(3, 1)]), [("half", 1, True), ("quarter", 0, True)])
        self.assertEqual(
            self.one([self.note(0, 1.5), self.note(1.5, 0.5), self.note(2, 2)]),
            [("quarter", 1, True), ("eighth", 0, True), ("half", 0, True)],
        )

    def test_an_eighth_a_quarter_and_an_eighth_are_read_as_they_are(self):  # common practice
        found = self.one([self.note(0, 0.5), self.note(0.5, 1), self.note(1.5, 0.5), self.note(2, 2)])
        self.assertEqual(found, [("eighth", 0, True), ("quarter", 0, True), ("eighth", 0, True), ("half", 0, True)])

    def test_played_a_little_off_it_is_written_as_meant(self):
        loose = [self.note(0.03, 0.4), self.note(0.53, 0.42), self.note(0.97, 0.9), self.note(2.04, 1.8)]
        self.assertEqual([k for k, _, _ in self.one(loose)], ["eighth", "eighth", "quarter", "half"])

    def test_triplets(self):
        bar = notate([self.note(k / 3 + 0.01, 0.3) for k in range(3)] + [self.note(1, 3)], Meters(), 1, 1, 1)[0]
        triplet = bar.staves[0][:3]
        self.assertEqual([(w.kind, w.triplet, w.length) for w in triplet], [("eighth", True, 4)] * 3)
        self.assertEqual([w.group for w in triplet], [1, 0, -1])

    def test_across_the_bar_line_it_is_tied(self):
        bars = notate([self.note(3, 2)], Meters(), 1, 2, 1)
        self.assertTrue(bars[0].staves[0][-1].to_next and bars[1].staves[0][0].from_before)

    def test_beams_follow_the_felt_beats(self):
        six = notate([ScoreNote(1, 0.5 * k, 0.5, 60, 80) for k in range(6)], Meters.of((1, "6/8")), 1, 1, 1)[0].staves[
            0
        ]
        self.assertEqual([w.beams[0] for w in six], ["begin", "continue", "end"] * 2)

    @settings(max_examples=60, deadline=None)
    @given(
        st.lists(st.tuples(st.integers(1, 8), st.floats(0, 3.9), st.floats(0.02, 5), st.integers(40, 80)), max_size=25)
    )
    def test_every_bar_is_full(self, rows):
        for staves in (1, 2):
            for bar in notate([ScoreNote(b, o, d, p, 80) for b, o, d, p in rows], METERS, 1, 8, staves):
                for run in bar.staves:
                    self.assertEqual(sum(w.length for w in run), bar.units)
                    self.assertEqual([w.start for w in run], np.cumsum([0, *(w.length for w in run)])[:-1].tolist())


class Readable(TestCase):
    def test_with_the_map_a_free_take_is_far_easier_to_read(self):
        p = others.rubato()
        steady = TempoMap.steady(80, p.truth.meters, float(p.truth.bar_seconds(1)), 40)
        before = readability(notate(to_score(steady, p.notes), p.truth.meters, 0, 32))
        after = readability(notate(to_score(p.truth, p.notes), p.truth.meters, 0, 32))
        self.assertGreater(before.burden, 3)
        self.assertLess(after.burden, 0.5)
        self.assertLess(after.notes, before.notes)
