"""Warps: strictly rising, the same there and back, nothing moved outside the fences."""

from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from core.reshaping.warp import Warp, WarpError, warped_map
from core.tempomap import TempoMap

steps = st.lists(st.floats(0.01, 3), min_size=2, max_size=12)


def rising(lengths, start=0.3):
    return start + np.cumsum(lengths)


@st.composite
def warps(draw):
    lengths = draw(steps)
    ratios = draw(st.lists(st.floats(0.4, 2.5), min_size=len(lengths), max_size=len(lengths)))
    return Warp(rising(lengths), rising(np.array(lengths) * ratios, draw(st.floats(0, 2))))


class Warps(TestCase):
    @settings(deadline=None)
    @given(warps(), st.lists(st.floats(-5, 60), min_size=1, max_size=20))
    def test_there_and_back(self, warp, times):
        times = np.sort(times)
        there = warp.to_target(times)
        np.testing.assert_allclose(warp.to_source(there), times, atol=1e-9)
        np.testing.assert_allclose(warp.inverse().to_source(times), there, atol=1e-9)
        self.assertTrue((np.diff(there) >= 0).all())

    @settings(deadline=None)
    @given(warps(), warps(), st.lists(st.floats(-5, 60), min_size=1, max_size=20))
    def test_one_after_the_other(self, first, second, times):
        np.testing.assert_allclose(
            first.then(second).to_target(times), second.to_target(first.to_target(times)), atol=1e-6
        )

    @settings(deadline=None)
    @given(warps())
    def test_a_warp_and_its_way_back_move_nothing(self, warp):
        both = warp.then(warp.inverse())
        times = np.linspace(-1, 40, 50)
        np.testing.assert_allclose(both.to_target(times), times, atol=1e-8)

    def test_outside_the_fences_nothing_moves(self):
        warp = Warp.moving([2.0, 3.0], [2.05, 2.98], [1.5, 3.5])
        outside = np.array([0.0, 0.7, 1.5, 3.5, 4.2, 99.0])
        np.testing.assert_array_equal(warp.to_target(outside), outside)
        np.testing.assert_allclose(warp.to_target([2.0, 3.0]), [2.05, 2.98])
        source, target = warp.in_samples(48_000)
        self.assertEqual(source[0], target[0])
        self.assertEqual(source[-1], target[-1])

    def test_what_cannot_be_is_refused(self):
        with self.assertRaisesRegex(WarpError, "backwards"):
            Warp([0, 1, 2], [0, 2, 1])
        with self.assertRaisesRegex(WarpError, "backwards"):
            Warp.moving([2.0], [3.6], [1.5, 3.5])
        with self.assertRaisesRegex(WarpError, "numbers"):
            Warp([0, 1], [0, np.inf])
        with self.assertRaises(WarpError):
            Warp([], [])

    def test_from_one_map_to_another(self):
        played = TempoMap.from_beats([0.5, 1.02, 1.49, 2.05, 2.5])
        click = TempoMap.steady(120, start=1.0)
        warp = Warp.between_maps(played, click, played.quarters)
        np.testing.assert_allclose(warp.to_target(played.seconds), [1, 1.5, 2, 2.5, 3])
        made = warped_map(played, warp)
        np.testing.assert_allclose(made.beats().seconds, [1, 1.5, 2, 2.5, 3])
        np.testing.assert_array_equal(made.beats().bar, played.beats().bar)

    def test_plain_data(self):
        warp = Warp([0.1, 1 / 3], [0.2, 0.7])
        again = Warp.from_json(warp.to_json())
        np.testing.assert_array_equal(again.source_sec, warp.source_sec)
        np.testing.assert_array_equal(again.target_sec, warp.target_sec)
