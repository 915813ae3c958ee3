"""Conform: beats arrive on the new map, freedom is kept by shares, other maps are followed bar by bar."""

from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from core.reshaping.conform import steady, steady_bpm, to_map, with_freedom
from core.reshaping.rendering import rendered
from core.reshaping.sources import ArraySource
from core.reshaping.warp import WarpError
from core.tempomap import Meters, TempoMap
from tests.core.test_engines import RATE, strokes


def drifting(bpm, beats=64, seed=0, start=0.7, jitter=0.008, drift=0.05):
    rng = np.random.default_rng(seed)
    slow = drift * np.sin(np.arange(beats) / 9 + seed)
    lengths = 60 / bpm * np.exp(slow) + jitter * rng.standard_normal(beats)
    return TempoMap.from_beats(start + np.cumsum(np.concatenate([[0], lengths])))


MAP = drifting(95)


def paces(tempo_map):
    return np.diff(tempo_map.beats().seconds)


class Steady(TestCase):
    def test_at_its_own_average_it_lasts_as_long(self):
        made = steady(MAP)
        self.assertAlmostEqual(made.map.seconds[-1], MAP.seconds[-1], 9)
        self.assertLess(np.ptp(paces(made.map)), 1e-9)
        self.assertAlmostEqual(60 / paces(made.map)[0], steady_bpm(MAP), 6)

    def test_at_a_typed_tempo_every_beat_is_on_it(self):
        made = steady(MAP, 120)
        np.testing.assert_allclose(paces(made.map), 0.5, atol=1e-9)
        np.testing.assert_allclose(made.warp.to_target(MAP.beats().seconds), made.map.beats().seconds, atol=1e-9)
        np.testing.assert_array_equal(made.map.beats().bar, MAP.beats().bar)

    def test_felt_beats_of_a_compound_meter(self):
        meters = Meters.of((1, "6/8"))
        played = TempoMap.from_beats(np.cumsum([0.5, 0.6, 0.58, 0.61, 0.6]), 0, meters)
        made = steady(played, 90)
        np.testing.assert_allclose(paces(made.map), 60 / 90, atol=1e-9)

    def test_holds_keep_their_seconds(self):
        beats = MAP.beats().seconds
        hold = (float(beats[20]), float(beats[22]))
        made = steady(MAP, 120, [hold])
        lengths = paces(made.map)
        np.testing.assert_allclose(lengths[20:22], paces(MAP)[20:22], atol=1e-9)
        np.testing.assert_allclose(np.delete(lengths, [20, 21]), 0.5, atol=1e-9)

    def test_a_tempo_that_nobody_plays_is_refused(self):
        with self.assertRaises(ValueError):
            steady(MAP, 0.5)

    def test_what_is_heard_is_on_the_beat(self):
        at = MAP.beats().seconds
        x = strokes(at, float(at[-1]) + 1)
        made = steady(MAP, 100)
        for engine in ("cut", "blend", "voice"):
            y = np.concatenate(list(rendered(ArraySource(x, RATE), made.warp, engine, at)))
            rise = np.abs(np.diff(y[:, 0], prepend=0))
            loud = np.flatnonzero(rise > 0.35)
            begins = loud[np.diff(loud, prepend=-RATE) > 0.1 * RATE] / RATE
            self.assertEqual(len(begins), len(at))
            self.assertLess(np.abs(begins - made.map.beats().seconds).max(), 0.001)


class Freedom(TestCase):
    def test_all_of_it_is_as_played_and_none_is_steady(self):
        same = with_freedom(MAP, 1, 1)
        np.testing.assert_array_equal(same.warp.source_sec, same.warp.target_sec)
        self.assertLess(np.ptp(paces(with_freedom(MAP, 0, 0).map)), 1e-9)

    @settings(deadline=None, max_examples=30)
    @given(st.floats(0, 1), st.floats(0, 1))
    def test_the_take_lasts_as_long(self, drift, jitter):
        made = with_freedom(MAP, drift, jitter)
        self.assertAlmostEqual(made.map.seconds[-1], MAP.seconds[-1], 6)
        self.assertTrue((np.diff(made.map.seconds) > 0).all())

    def test_drift_may_stay_while_jitter_goes(self):
        smooth = with_freedom(MAP, 1, 0)

        def quick(tempo_map):
            return np.std(np.diff(np.log(paces(tempo_map)), 2))

        self.assertLess(quick(smooth.map), 0.1 * quick(MAP))
        self.assertGreater(np.corrcoef(paces(smooth.map), paces(MAP))[0, 1], 0.8)
        rough = with_freedom(MAP, 0, 1)
        self.assertAlmostEqual(quick(rough.map) / quick(MAP), 1, 1)

    def test_half_of_it_is_half_as_far_from_steady(self):
        whole, half = (np.log(paces(with_freedom(MAP, x, x).map)) for x in (1, 0.5))
        self.assertAlmostEqual(np.std(half) / np.std(whole), 0.5, 2)


class OtherMaps(TestCase):
    def test_bar_by_bar(self):
        other = drifting(103, seed=3)
        made = to_map(MAP, other)
        bars = np.arange(1, 17)
        np.testing.assert_allclose(made.map.bar_seconds(bars), other.bar_seconds(bars), atol=1e-9)
        np.testing.assert_allclose(made.map.beats().seconds[:60], other.beats().seconds[:60], atol=1e-9)

    def test_with_an_offset_and_a_range_of_bars(self):
        other = drifting(103, seed=3)
        made = to_map(MAP, other, bars_later=2, first=3, last=6)
        shift = made.warp.to_target(0.0)
        want = other.bar_seconds(np.arange(5, 10))
        np.testing.assert_allclose(made.warp.to_target(MAP.bar_seconds(np.arange(3, 8))), want, atol=1e-9)
        # before and behind it keeps its pace
        self.assertAlmostEqual(float(made.warp.to_target(1.0) - shift), 1.0, 9)

    def test_two_takes_of_one_song_agree_within_5_ms(self):
        fast = drifting(103, seed=5, start=1.4)
        at = MAP.beats().seconds
        x = strokes(at, float(at[-1]) + 1)
        made = to_map(MAP, fast)
        y = np.concatenate(list(rendered(ArraySource(x, RATE), made.warp, "cut", at)))
        loud = np.flatnonzero(np.abs(np.diff(y[:, 0], prepend=0)) > 0.35)
        begins = loud[np.diff(loud, prepend=-RATE) > 0.1 * RATE] / RATE
        self.assertLess(np.abs(begins - fast.beats().seconds).max(), 0.005)

    def test_maps_without_a_common_bar_are_refused(self):
        with self.assertRaisesRegex(WarpError, "none match"):
            to_map(MAP, drifting(100), bars_later=500)
