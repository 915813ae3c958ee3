"""The pattern around each beat against its rivals, on a band whose beats are known."""

from unittest import TestCase

import numpy as np

from core.tempomap import Meters
from core.tracking.context import build_context
from core.tracking.pattern_margin import pattern_margin
from tests.core import takes


class Margin(TestCase):
    @classmethod
    def setUpClass(cls):
        meters = Meters.of((1, "4/4"))
        truth = takes.tempo_map(takes.drift(16 * 4 + 1, 118, 3.0), meters)
        made = takes.record(truth, takes.groove(truth, 16) | takes.bass_line(truth, 16) | takes.chords(truth, 16))
        cls.beats = np.round(100 * made.beats)
        cls.bands = build_context(made.tracks).bands

    def off_beats(self):
        return (self.beats[1:] + self.beats[:-1]) / 2

    def test_beats_speak_for_themselves_and_off_beats_against(self):
        self.assertGreater(np.median(pattern_margin(self.bands, self.beats)), 0.5)
        self.assertLess(np.median(pattern_margin(self.bands, self.off_beats())), -0.5)

    def test_what_one_counts_is_ahead_of_half_and_twice_as_many(self):
        own = np.median(pattern_margin(self.bands, self.beats))
        double = np.sort(np.append(self.beats, self.off_beats()))
        for rival in (self.beats[::2], double):
            self.assertLess(np.median(pattern_margin(self.bands, rival)), own)

    def test_a_stretch_on_the_off_beats_is_behind_the_rest(self):
        slid = self.beats.copy()
        slid[32:] += np.append(np.diff(slid[32:]), slid[-1] - slid[-2]) / 2
        found = pattern_margin(self.bands, slid)
        self.assertLess(found[44:].max(), found[:16].min())

    def test_without_anything_to_read_it_says_nothing(self):
        np.testing.assert_array_equal(pattern_margin(None, self.beats), np.zeros(len(self.beats)))
        np.testing.assert_array_equal(pattern_margin(self.bands, self.beats[:7]), np.zeros(7))
