"""Tapping: simulated tappers with 30 ms spread and a constant 40 ms delay end on the attacks."""

from unittest import TestCase

import numpy as np

from core.tempomap.edits import EditError
from core.tracking.context import build_context
from core.tracking.tapping import beats_of, delay, map_from_taps
from tests.core import takes
from tests.core.test_situations import band


class Tapping(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.truth, parts = band(bars=10)
        cls.scene = build_context(takes.record(cls.truth, parts).tracks)

    def taps(self, first, last, seed=0):
        rng = np.random.default_rng(seed)
        t = self.truth.beats(first, last).seconds
        return t + 0.04 + 0.03 * rng.standard_normal(len(t))

    def test_ends_within_5_ms_of_the_attacks(self):
        beats = self.truth.beats(4, 31).seconds
        off = [np.abs(beats_of(self.scene, self.taps(4, 31, seed)) - beats) for seed in range(4)]
        self.assertLess(np.median(off), 0.005)
        # a player's own spread is 5 ms here: hardly any beat is farther than three of those
        self.assertLess(np.percentile(off, 90), 0.015)

    def test_the_hand_s_delay_is_found(self):
        found = [delay(self.scene, self.taps(4, 31, seed)) for seed in range(6)]
        self.assertAlmostEqual(float(np.mean(found)), 0.04, delta=0.012)

    def test_over_a_map_only_the_tapped_stretch_changes(self):
        spoiled = self.truth.with_points(self.truth.seconds, self.truth.quarters)
        laid = map_from_taps(self.scene, spoiled, self.taps(8, 16))
        np.testing.assert_array_equal(laid.beats(0, 7).seconds, self.truth.beats(0, 7).seconds)
        np.testing.assert_array_equal(laid.beats(17, 30).seconds, self.truth.beats(17, 30).seconds)

    def test_two_taps_are_no_tempo(self):
        with self.assertRaisesRegex(EditError, "three"):
            beats_of(self.scene, [1.0, 1.5])
