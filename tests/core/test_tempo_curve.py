"""The smooth tempo, averages of stretches, arches of phrases."""

from unittest import TestCase

import numpy as np

from core.tempomap import Meters, TempoMap
from core.tempomap.tempo_curve import phrases, smooth_tempo, stretch_tempo


def of_tempos(bpm, jitter=0.0):
    intervals = 60 / np.asarray(bpm)
    seconds = np.concatenate([[0.0], np.cumsum(intervals)])
    seconds += np.random.default_rng(3).normal(0, jitter, len(seconds))
    return TempoMap.from_beats(seconds, 0, Meters.of((1, "4/4")))


class Smooth(TestCase):
    def test_a_steady_tempo_stays_itself(self):
        at, bpm = smooth_tempo(of_tempos(np.full(64, 97.0)))
        np.testing.assert_allclose(bpm, 97)
        self.assertEqual(len(at), 64)

    def test_jitter_goes_and_drift_stays(self):
        drift = np.linspace(90, 110, 128)
        _, bpm = smooth_tempo(of_tempos(drift, jitter=0.01))
        raw = 60 / np.diff(of_tempos(drift, jitter=0.01).beats().seconds)
        inner = slice(10, -10)
        self.assertLess(np.std(bpm[inner] - drift[inner]), 0.25 * np.std(raw[inner] - drift[inner]))

    def test_one_beat_has_no_tempo(self):
        at, bpm = smooth_tempo(TempoMap.steady(120, bars=1).with_points([0.0, 0.5], [0.0, 1.0]))
        self.assertEqual(len(at), len(bpm))


class Stretches(TestCase):
    def test_the_average_is_beats_over_time(self):
        found = stretch_tempo(of_tempos([60.0] * 8 + [120.0] * 8), 0.0, 12.0)
        self.assertAlmostEqual(found.average, 60 * 16 / 12)
        self.assertIsNone(stretch_tempo(of_tempos([60.0] * 8), 2.1, 2.9))

    def test_an_arch_is_found_where_one_was_played(self):
        x = np.linspace(-1, 1, 32)
        found = stretch_tempo(of_tempos(100 - 8 * x**2), 0.0, 100.0)
        a, _, c = found.arch
        self.assertAlmostEqual(a, 100, delta=0.2)
        self.assertAlmostEqual(c, -8, delta=0.3)
        self.assertIsNone(stretch_tempo(of_tempos(100 + 8 * x**2), 0.0, 100.0).arch)
        self.assertIsNone(stretch_tempo(of_tempos(np.full(32, 100.0), jitter=0.01), 0.0, 100.0).arch)

    def test_phrases_are_eight_bars(self):
        tempo_map = of_tempos(np.full(80, 120.0))
        self.assertEqual(phrases(tempo_map)[:2], [(0.0, 16.0), (16.0, 32.0)])
