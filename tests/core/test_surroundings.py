"""A stretch is detected again between the beats around it."""

from unittest import TestCase

import numpy as np

from core.tracking.surroundings import neighbouring_beats, search_between
from core.tracking.tempo_freedom import decode_freely


class Neighbours(TestCase):
    def test_as_many_as_asked_for_on_either_side(self):
        beats = np.arange(-500, 1000, 50)
        before, after = neighbouring_beats(beats, 200, 50.0, 3)
        self.assertEqual((before.tolist(), after.tolist()), ([-150, -100, -50], [250, 300, 350]))

    def test_they_end_where_the_count_is_another(self):
        half, double = [-350, -250, -150, -50], [250, 300, 325, 350]
        before, after = neighbouring_beats(np.array([*half, 0, 200, *double]), 200, 50.0, 8)
        self.assertEqual((before.tolist(), after.tolist()), ([-50], [250, 300]))

    def test_none_at_the_ends_of_the_map_or_beside_another_count(self):
        before, after = neighbouring_beats(np.array([0, 50, 100]), 100, 50.0, 8)
        self.assertEqual((len(before), len(after)), (0, 0))
        before, after = neighbouring_beats(np.array([-100, 0, 50, 100, 200]), 100, 50.0, 8)
        self.assertEqual((len(before), len(after)), (0, 0))


class Between(TestCase):
    def test_the_search_hears_the_beats_around_and_its_result_is_the_stretch_alone(self):
        heard = []

        def search(curve, known):
            heard.append((len(curve), known.tolist(), curve[[25, 50]].tolist()))
            return np.arange(0, len(curve), 50)

        chain = search_between(search, np.ones(101), np.array([0, 100]), np.array([-100, -50]), np.array([150]))
        self.assertEqual(chain.tolist(), [0, 50, 100])
        (length, known, (between, beat)) = heard[0]
        self.assertEqual((length, known, beat), (251, [0, 50, 100, 200, 250], 0))
        self.assertLess(between, -1)

    def test_where_nothing_fits_to_the_beats_around_they_are_left_out(self):
        def search(curve, known):
            return np.arange(0, 101, 50) if len(curve) == 101 else np.arange(7, len(curve), 50)

        chain = search_between(search, np.ones(101), np.array([0, 100]), np.array([-50]), np.array([150]))
        self.assertEqual(chain.tolist(), [0, 50, 100])

    def test_the_tempo_around_tells_how_it_goes_on(self):
        # weak beats, and strokes that fit another tempo between the same ends
        curve = np.zeros(191)
        curve[[48, 95, 142]], curve[[63, 126]] = 0.3, 0.65
        curve[[0, 190]] = 1.0
        ends = np.array([0, 190])

        def search(heard, known):
            return decode_freely(heard, 80, 180, 120, pins=known, is_part=True)[0]

        alone = search_between(search, curve, ends, ends[:0], ends[:0])
        self.assertEqual(alone.tolist(), [0, 63, 126, 190])
        among = search_between(search, curve, ends, np.arange(-200, 0, 50), np.arange(240, 400, 50))
        self.assertEqual(among.tolist(), [0, 48, 95, 142, 190])
