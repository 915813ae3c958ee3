"""Where a map from elsewhere belongs under a recording."""

from unittest import TestCase

import numpy as np

from core.tempomap import TempoMap
from core.tracking.context import build_context
from core.tracking.offset import find_offset
from tests.core import takes
from tests.core.test_situations import band


class Offsets(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.made = takes.record(*band())
        cls.context = build_context(cls.made.tracks)
        start = int(np.searchsorted(cls.made.beats, cls.made.downbeats[0] - 0.01))
        cls.map = TempoMap.from_beats(cls.made.beats[start:])

    def test_a_map_is_found_wherever_it_was_moved(self):
        for by in (0.0, -0.237, 4.5, -31.0):
            found = find_offset(self.context, TempoMap(self.map.seconds + by, self.map.quarters))
            self.assertAlmostEqual(found.seconds + by, 0, delta=0.012, msg=by)
            self.assertTrue(found.is_clear)
            self.assertAlmostEqual(found.inside, 1)

    def test_a_piece_of_a_map_is_found_too(self):
        some = TempoMap(self.map.seconds[16:48] - 20.0, self.map.quarters[16:48])
        self.assertAlmostEqual(find_offset(self.context, some).seconds, 20.0, delta=0.012)

    def test_a_steady_map_on_free_playing_is_not_clear(self):
        steady = TempoMap.steady(float(self.map.bpm_at(20.0)), bars=20)
        self.assertLess(find_offset(self.context, steady).lead, 0.5 * find_offset(self.context, self.map).lead)
