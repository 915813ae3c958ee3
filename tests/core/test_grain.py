"""How fine the kept map is: thinning against exhaustive search and its own bound, smoothing, steadying."""

from itertools import combinations
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tempomap import Meters, TempoMap, grain
from core.tempomap.edits import EditError, set_pin


def wandering(count=33, seed=0, bpm=120):
    gaps = 60 / bpm * (1 + 0.03 * np.random.default_rng(seed).standard_normal(count).cumsum().clip(-4, 4))
    return TempoMap.from_beats(1 + np.cumsum(gaps), 0, Meters.of((1, "4/4")))


class Thinning(TestCase):
    @settings(max_examples=30, deadline=None)
    @given(st.integers(0, 10_000), st.integers(4, 10), st.floats(0.001, 0.03))
    def test_no_smaller_set_of_points_would_do(self, seed, count, within):
        tempo_map = wandering(count, seed)
        kept = grain.thin(tempo_map, within)
        t, q = tempo_map.seconds, tempo_map.quarters

        def fits(inner):
            places = [0, *inner, count - 1]
            return np.abs(np.interp(q, q[places], t[places]) - t).max() <= within + 1e-12

        fewest = next(n for n in range(count - 1) if any(fits(inner) for inner in combinations(range(1, count - 1), n)))
        self.assertEqual(len(kept.seconds), fewest + 2)

    @settings(max_examples=30, deadline=None)
    @given(st.integers(0, 10_000), st.floats(0.0005, 0.05))
    def test_keeps_its_bound(self, seed, within):
        tempo_map = wandering(120, seed)
        kept = grain.thin(tempo_map, within)
        self.assertLessEqual(grain.farthest(tempo_map, kept), within + 1e-9)

    def test_pins_and_what_lies_outside_stay(self):
        tempo_map = set_pin(wandering(), 13, True)
        kept = grain.thin(tempo_map, 0.2, 8, 20)
        outside = (tempo_map.quarters <= 8) | (tempo_map.quarters >= 20) | (tempo_map.quarters == 13)
        self.assertTrue(set(tempo_map.seconds[outside]) <= set(kept.seconds))
        self.assertEqual(len(kept.seconds), outside.sum())


class Evening(TestCase):
    def test_a_steady_stretch_has_one_tempo_and_leaves_the_rest(self):
        tempo_map = wandering()
        kept = grain.steady(tempo_map, 8, 16)
        gaps = np.diff(kept.beats(8, 16).seconds)
        self.assertLess(np.ptp(gaps), 1e-9)
        np.testing.assert_array_equal(kept.beats(0, 8).seconds, tempo_map.beats(0, 8).seconds)
        np.testing.assert_array_equal(kept.beats(16, 32).seconds, tempo_map.beats(16, 32).seconds)

    def test_points_every_two_bars(self):
        kept = grain.every(wandering(), 2)
        np.testing.assert_array_equal(kept.quarters, [0, 8, 16, 24, 32])

    def test_smoothing_lessens_the_wander_between_fixed_ends(self):
        tempo_map = wandering(65, 3)
        kept = grain.smooth(tempo_map, 16, 48)
        rough, even = (np.abs(np.diff(m.beats(16, 48).seconds, 2)).mean() for m in (tempo_map, kept))
        self.assertLess(even, 0.7 * rough)
        for a, b in ((0, 16), (48, 64)):
            np.testing.assert_array_equal(kept.beats(a, b).seconds, tempo_map.beats(a, b).seconds)

    def test_a_stretch_needs_two_beats(self):
        with self.assertRaises(EditError):
            grain.steady(wandering(), 5, 5)
