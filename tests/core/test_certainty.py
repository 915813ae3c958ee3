"""Posteriors against enumeration, machine tempo against least squares done by hand."""

from unittest import TestCase

import numpy as np

from core.beats import certainty, steady
from core.beats.decoder import Leash, prices
from core.tempomap import TempoMap


def enumerate_posterior(gain, shortest, longest, home, change):
    """Every chain of two or more beats, weighted by its likelihood: the textbook definition."""
    cost = prices(shortest, longest - shortest + 1, change)
    total, mass = 0.0, np.zeros(len(gain))

    def go(t, interval, score, chain):
        nonlocal total
        if len(chain) > 1:
            weight = np.exp(score)
            total += weight
            mass[chain] += weight
        for i in range(shortest, longest + 1):
            if t + i < len(gain):
                if interval and not (4 * i <= 5 * interval and 4 * interval <= 5 * i):
                    continue
                step = cost[i - shortest, interval - shortest] if interval else 0.0
                go(t + i, i, score + gain[t + i] - step - home[i - shortest], [*chain, t + i])

    for t in range(len(gain)):
        go(t, 0, gain[t], [t])
    return mass / total


class Posterior(TestCase):
    def test_forward_backward_equals_enumeration(self):
        rng = np.random.default_rng(4)
        for _ in range(4):
            gain = rng.normal(0, 1, 26)
            home = rng.uniform(0, 0.3, 4)
            got = certainty._posterior(gain, 6, 9, home, 1.5)
            np.testing.assert_allclose(got, enumerate_posterior(gain, 6, 9, home, 1.5), atol=1e-9)

    def test_clear_pulses_are_sure_and_noise_is_not(self):
        times = np.arange(100, 5000, 50)
        clear = np.zeros(5100)
        clear[times] = 1.0
        self.assertGreater(certainty.posterior(clear, times).min(), 0.9)
        noise = np.random.default_rng(0).uniform(0, 1, 5100)
        self.assertLess(np.median(certainty.posterior(noise, times, Leash())), 0.6)

    def test_music_is_where_beats_are_likely(self):
        likely = np.concatenate([np.full(3, 0.1), np.full(40, 0.95), np.full(9, 0.2)])
        inside = certainty.music(likely)
        self.assertEqual((inside.start, inside.stop), (3, 43))


class Steady(TestCase):
    def test_offset_and_tempo_of_an_even_grid_with_some_wrong_beats(self):
        rng = np.random.default_rng(1)
        times = 1.5 + 0.4759 * np.arange(200) + rng.normal(0, 0.0003, 200)
        times[::17] += 0.03
        start, interval, spread = steady.fit(times, np.ones(200))
        self.assertAlmostEqual(start, 1.5, delta=2e-4)
        self.assertAlmostEqual(60 / interval, 60 / 0.4759, delta=0.002)
        self.assertLess(spread, 0.001)

    def test_a_human_stays_as_played(self):
        times = 1 + np.cumsum(0.5 + 0.01 * np.sin(np.arange(100) / 9))
        human = TempoMap.from_beats(times)
        self.assertIsNone(steady.straighten(human, np.ones(100)))
        self.assertEqual(len(steady.straighten(human, np.ones(100), always=True).seconds), 2)
