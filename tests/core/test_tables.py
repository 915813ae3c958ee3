"""The map as tables: CSV as RFC 4180 has it, JSON as the README promises."""

import csv
import io
from types import SimpleNamespace
from unittest import TestCase

import numpy as np

from core.document.commands import Redetect
from core.formats import tables
from core.listening.guides import GuideRank
from core.tempomap import Meters, TempoMap, edits
from core.tracking.doubts.doubt import Doubt, Remedy

MAP = TempoMap.from_beats(1 + 0.5 * np.arange(14), -1, Meters.of((1, "4/4"), (3, "3/4")))


class Csv(TestCase):
    def test_a_line_a_beat(self):
        text = tables.beats_csv(edits.move_beat(MAP, 2, 2.53))
        self.assertTrue(text.endswith("\r\n"))
        rows = list(csv.DictReader(io.StringIO(text)))
        self.assertEqual(len(rows), 14)
        self.assertEqual([(r["bar"], r["beat"]) for r in rows[:3]], [("0", "4"), ("1", "1"), ("1", "2")])
        self.assertEqual([r["pinned"] for r in rows[2:5]], ["0", "1", "0"])
        self.assertEqual(rows[3]["time"], "2.530000")
        self.assertAlmostEqual(float(rows[0]["bpm"]), 120, places=3)
        self.assertAlmostEqual(float(rows[3]["bpm"]), 60 / 0.47, places=2)

    def test_the_last_beat_has_a_tempo_too(self):
        rows = list(csv.DictReader(io.StringIO(tables.beats_csv(MAP))))
        self.assertAlmostEqual(float(rows[-1]["bpm"]), 120, places=3)


class Json(TestCase):
    def test_every_part(self):
        doubt = Doubt(
            "jump",
            2.0,
            3.0,
            1,
            2,
            3,
            "The tempo jumps.",
            [Remedy("again", Redetect(first=0, last=4))],
        )
        solution = SimpleNamespace(
            confidence=np.linspace(0, 1, 14), guides=[GuideRank("kick.wav", 0.75, 0.8, 0.9, "sharp")], doubts=[doubt]
        )
        data = tables.map_json(MAP, 9.0, solution)
        self.assertEqual([b["number"] for b in data["bars"]], [0, 1, 2, 3, 4])
        self.assertEqual([b["numerator"] for b in data["bars"]], [4, 4, 4, 3, 3])
        self.assertEqual(data["beats"][1], {"time": 1.5, "bar": 1, "beat": 1, "confidence": 0.077})
        self.assertEqual(data["tempo"][0], {"time": 1.0, "quarters": -1.0, "bpm": 120.0})
        self.assertEqual(data["guide"], [{"file": "kick.wav", "weight": 0.75}])
        self.assertEqual(data["doubts"][0]["remedies"][0]["command"]["kind"], "redetect")
