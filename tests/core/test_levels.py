"""Levels, mutes and solos, on the table that the page's script is tested on too."""

import json
from dataclasses import dataclass
from pathlib import Path
from unittest import TestCase

import numpy as np

from core.following.levels import factors, sides


@dataclass
class Lane:
    gain: float
    muted: bool
    solo: bool
    pan: float = 0.0


class Levels(TestCase):
    def test_the_shared_table(self):
        for case in json.loads((Path(__file__).parents[1] / "levels.json").read_text()):
            np.testing.assert_allclose(factors([Lane(*lane) for lane in case["lanes"]]), case["factors"], rtol=1e-12)

    def test_six_decibels_are_about_twice(self):
        """20 log10(2) = 6.0206 dB, as in any handbook."""
        self.assertAlmostEqual(factors([Lane(20 * np.log10(2), False, False)])[0], 2)

    def test_the_nearer_side_keeps_its_level(self):
        self.assertEqual([sides(p) for p in (-1, -0.5, 0, 0.25, 1)], [(1, 0), (1, 0.5), (1, 1), (0.75, 1), (0, 1)])
