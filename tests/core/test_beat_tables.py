"""Maps read from beats as other programs write them: CSV, label tracks, JAMS, our own JSON, MIDI."""

import json
import random
import tempfile
from contextlib import suppress
from pathlib import Path
from unittest import TestCase

import jams
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from core.formats import smf, tables
from core.formats.beat_tables import MapFileError, read_beats
from core.formats.map_files import read_any_map
from core.tempomap import Meters, TempoMap

MAP = TempoMap.from_beats(1 + np.cumsum(0.5 + 0.02 * np.sin(np.arange(22))), -1, Meters.of((1, "4/4"), (3, "3/4")))


class Same(TestCase):
    """What we write comes back: the same beats in the same bars."""

    def assert_same(self, found, places=6):
        ours, back = MAP.beats(), found.beats()
        count = len(ours.seconds)
        np.testing.assert_allclose(back.seconds[:count], ours.seconds, atol=10**-places)
        np.testing.assert_array_equal(back.bar[:count], ours.bar)
        np.testing.assert_array_equal(back.beat[:count], ours.beat)

    def test_our_csv(self):
        self.assert_same(read_beats(tables.beats_csv(MAP), "beats.csv"))

    def test_semicolons_and_decimal_commas(self):
        text = tables.beats_csv(MAP).replace(",", ";").replace(".", ",")
        self.assert_same(read_beats(text, "beats.csv"))

    def test_without_a_head(self):
        b = MAP.beats()
        rows = "\n".join(f"{t:.6f}\t{bar}\t{beat}" for t, bar, beat in zip(b.seconds, b.bar, b.beat, strict=True))
        self.assert_same(read_beats(rows, "beats.txt"))

    def test_a_label_track(self):
        """Two times and a label a line, as editors of sound write label tracks (common practice)."""
        b = MAP.beats()
        points = zip(b.seconds, b.bar, b.beat, strict=True)
        rows = "\n".join(f"{t:.6f}\t{t:.6f}\t{bar}.{beat}" for t, bar, beat in points)
        self.assert_same(read_beats(rows, "labels.txt"))

    def test_jams_that_the_jams_package_wrote(self):
        """The beat namespace of JAMS (Humphrey and others 2014), written and checked by its reference package."""
        b = MAP.beats()
        annotation = jams.Annotation("beat", duration=30)
        for t, beat in zip(b.seconds, b.beat, strict=True):
            annotation.append(time=float(t), duration=0.0, value=float(beat), confidence=None)
        made = jams.JAMS(file_metadata=jams.FileMetadata(duration=30.0), annotations=[annotation])
        self.assertTrue(made.validate())
        self.assert_same(read_beats(made.dumps(), "take.jams"))

    def test_jams_with_positions(self):
        annotation = jams.Annotation("beat_position", duration=30)
        for k in range(12):
            value = {"position": k % 3 + 1, "measure": 5 + k // 3, "num_beats": 3, "beat_units": 4}
            annotation.append(time=1 + 0.6 * k, duration=0.0, value=value)
        made = jams.JAMS(file_metadata=jams.FileMetadata(duration=30.0), annotations=[annotation])
        found = read_beats(made.dumps(), "take.jams").beats()
        np.testing.assert_array_equal(found.bar[:4], [5, 5, 5, 6])
        np.testing.assert_allclose(found.seconds[:3], [1, 1.6, 2.2])

    def test_our_json(self):
        b = MAP.beats()
        data = {
            "beats": [
                {"time": float(t), "bar": int(bar), "beat": int(k)}
                for t, bar, k in zip(b.seconds, b.bar, b.beat, strict=True)
            ]
        }
        self.assert_same(read_beats(json.dumps(data), "map.json"))

    def test_midi_is_told_by_its_content(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "named.txt"
            smf.write(TempoMap.steady(96, bars=8), "Ninety-six").file.save(path)
            found = read_any_map(path)
        np.testing.assert_allclose(np.diff(found.beats().seconds)[:20], 60 / 96, atol=1e-5)


class Plain(TestCase):
    def test_seconds_alone_are_counted_in_four(self):
        found = read_beats("0.5\n1.0\n1.5\n2.1\n2.6\n", "times.txt").beats()
        np.testing.assert_allclose(found.seconds[:5], [0.5, 1, 1.5, 2.1, 2.6])
        np.testing.assert_array_equal(found.beat[:5], [1, 2, 3, 4, 1])

    def test_lines_alone_are_bars(self):
        found = read_beats("1.0\t1.0\tBar 1\n3.0\t3.0\tBar 2\n5.2\t5.2\tBar 3\n", "bars.txt")
        np.testing.assert_allclose(found.bar_seconds(np.array([1, 2, 3])), [1, 3, 5.2])

    def test_what_is_no_map_is_refused_with_its_name(self):
        for text in (
            "",
            "hello",
            "1.0\n",
            "1\n2\n2\n3\n",
            "1\nnan\n3",
            "{",
            '{"annotations": []}',
            '{"beats": 3}',
            "2\n1",
        ):
            with self.subTest(text), self.assertRaisesRegex(MapFileError, "“x”"):
                read_beats(text, "x")

    @settings(deadline=None, max_examples=200)
    @given(st.text(max_size=200))
    def test_any_text_is_a_map_or_a_sentence(self, text):
        with suppress(MapFileError):
            self.assertIsInstance(read_beats(text, "x"), TempoMap)

    def test_a_thousand_damaged_files(self):
        rng = random.Random(2)
        whole = [
            tables.beats_csv(MAP),
            json.dumps({"annotations": [{"namespace": "beat", "data": [{"time": 1, "value": 1}]}]}),
        ]
        for k in range(1000):
            text = list(whole[k % 2])
            for _ in range(rng.randint(1, 8)):
                text[rng.randrange(len(text))] = chr(rng.choice([0, 9, 10, 44, 45, 46, 48, 57, 101, 0x1F600]))
            if rng.random() < 0.3:
                text = text[: rng.randrange(len(text))]
            with suppress(MapFileError):
                read_beats("".join(text), "x")

    def test_a_field_that_is_longer_than_any_table_has(self):
        with self.assertRaisesRegex(MapFileError, "not a list of beats"):
            read_beats("1.0\t" + 200_000 * "x" + "\n2.0\t3\n", "x")

    def test_bytes_that_are_no_text(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "x.csv"
            path.write_bytes(bytes(range(256)) * 4)
            with self.assertRaises(MapFileError):
                read_any_map(path)
