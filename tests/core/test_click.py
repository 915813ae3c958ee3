"""The click: on its sample, accented on one, and counting in at the tempo found there."""

from unittest import TestCase

import numpy as np

from core.following import click
from core.tempomap import Meters, TempoMap


class OnTheSample(TestCase):
    def test_every_click_starts_at_its_nearest_sample(self):
        rng = np.random.default_rng(5)
        times = 0.7 + np.cumsum(rng.uniform(0.3, 0.8, 200))
        m = TempoMap.from_beats(times)
        for rate in (44_100, 48_000, 96_000):
            found = click.clicks(m, rate, times[-1] + 1)
            np.testing.assert_array_equal(found.samples, np.round(times * rate))
            track = click.render(found, rate, round((times[-1] + 1) * rate))
            for at in found.samples:
                self.assertNotEqual(track[at], 0)
                self.assertEqual(track[at - 1], 0)

    def test_accents_fall_on_one(self):
        m = TempoMap.from_beats(1 + np.arange(14.0), -2, Meters.of((1, "3/4")))
        found = click.clicks(m, 1000, 100)
        self.assertEqual(found.kinds.tolist(), [1, 1, 0, 1, 1, 0, 1, 1, 0, 1, 1, 0, 1, 1])

    def test_nothing_outside_the_take(self):
        m = TempoMap.from_beats(np.arange(10.0))
        self.assertEqual(len(click.clicks(m, 48_000, 4.5).samples), 5)
        track = click.render(click.clicks(m, 48_000, 4.001), 48_000, 192_048)
        self.assertEqual(len(track), 192_048)

    def test_a_beat_a_moment_before_the_take_clicks_as_it_begins(self):
        loop = TempoMap.from_beats(-0.004 + 0.5 * np.arange(9))
        found = click.clicks(loop, 48_000, 4)
        self.assertEqual(found.samples[:2].tolist(), [0, 23_808])
        earlier = click.clicks(TempoMap.from_beats(-0.3 + 0.5 * np.arange(9)), 48_000, 4)
        self.assertEqual(earlier.samples[0], 9_600)


class CountIn(TestCase):
    map = TempoMap.from_beats(np.concatenate([2 + 0.5 * np.arange(8), 6 + 0.75 * np.arange(17)]))

    def test_a_bar_at_the_tempo_found_there(self):
        found, length = click.count_in(self.map, 48_000, 2.0)
        self.assertEqual(length, 4 * 24_000)
        self.assertEqual(found.samples.tolist(), [0, 24_000, 48_000, 72_000])
        self.assertEqual(found.kinds.tolist(), [0, 1, 1, 1])
        _, slower = click.count_in(self.map, 48_000, 6.0)
        self.assertEqual(slower, 4 * 36_000)

    def test_inside_a_bar_the_counts_lead_up_to_that_beat(self):
        found, _ = click.count_in(self.map, 48_000, 3.0)  # beat 3 of bar 1
        self.assertEqual(found.kinds.tolist(), [1, 1, 0, 1])  # three, four, one, two

    def test_two_bars(self):
        found, length = click.count_in(self.map, 1000, 6.0, bars=2)
        self.assertEqual((len(found.samples), length), (8, 6000))

    def test_between_beats_the_last_count_falls_before_the_start(self):
        found, length = click.count_in(self.map, 48_000, 2.25)
        self.assertEqual(length, 4 * 24_000 - 12_000)
        self.assertLess(found.samples.max(), length)


class Figures(TestCase):
    def times(self, text, figure, bpm=120.0):
        m = TempoMap.steady(bpm, Meters.of((1, text)), bars=2)
        found = click.clicks(m, 48_000, 100, click.Style("wood", figure))
        return (found.samples / 24_000).tolist(), found.kinds.tolist()

    def test_seven_eight_is_accented_in_its_groups(self):
        # 2+2+3: felt beats at eighths 0, 2 and 4 (common practice)
        times, kinds = self.times("2+2+3/8", "eighths")
        self.assertEqual([2 * t for t in times[:8]], list(range(8)))
        self.assertEqual(kinds[:8], [0, 2, 1, 2, 1, 2, 2, 0])

    def test_six_eight_has_six_eighths(self):
        _, kinds = self.times("6/8", "eighths")
        self.assertEqual(kinds[:6], [0, 2, 2, 1, 2, 2])

    def test_triplets_and_swing_stand_at_thirds(self):
        times, _ = self.times("4/4", "triplets")
        np.testing.assert_allclose(times[:4], [0, 1 / 3, 2 / 3, 1], atol=1e-4)
        times, _ = self.times("4/4", "swung")
        np.testing.assert_allclose(times[:4], [0, 2 / 3, 1, 5 / 3], atol=1e-4)

    def test_sixteenths_and_downbeats(self):
        times, _ = self.times("3/4", "sixteenths")
        np.testing.assert_allclose(np.diff(times), 0.25, atol=1e-4)
        times, kinds = self.times("3/4", "downbeats")
        self.assertEqual((times[:2], set(kinds)), ([0.0, 3.0], {0}))

    def test_each_sound_starts_at_once_and_stays_in_range(self):
        for name in click.SOUNDS:
            for sound in click.sounds(48_000, name):
                self.assertGreater(abs(sound[0]), 0.05)
                self.assertLessEqual(np.abs(sound).max(), 1)
                self.assertLess(abs(sound[-1]), 1e-3)

    def test_a_click_that_is_none(self):
        with self.assertRaises(ValueError):
            click.Style("wood", "fifths")
