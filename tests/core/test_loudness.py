"""Loudness against EBU Tech 3341 (test signals 1 to 5, generated) and pyloudnorm (MIT)."""

from unittest import TestCase

import numpy as np
import pyloudnorm

from core.audio.loudness import loudness


def sine(*stretches, rate=48_000):
    """A stereo sine of 1 kHz: pairs of dBFS and seconds."""
    level = np.concatenate([np.full(round(s * rate), 10 ** (db / 20)) for db, s in stretches])
    x = level * np.sin(2 * np.pi * 1000 * np.arange(len(level)) / rate)
    return np.stack([x, x], axis=1)


class Tech3341(TestCase):
    def test_the_signals_read_as_they_should(self):
        for stretches, wanted in (
            ([(-23, 20)], -23.0),
            ([(-33, 20)], -33.0),
            ([(-36, 10), (-23, 60), (-36, 10)], -23.0),
            ([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23.0),
            ([(-26, 20), (-20, 20.1), (-26, 20)], -23.0),
        ):
            self.assertAlmostEqual(loudness(sine(*stretches), 48_000), wanted, delta=0.1)


class Reference(TestCase):
    def test_it_agrees_with_pyloudnorm_at_any_rate(self):
        rng = np.random.default_rng(1)
        for rate in (44_100, 48_000, 96_000):
            x = rng.normal(0, 0.1, (rate * 4, 2)) * np.linspace(0.1, 1, rate * 4)[:, None]
            self.assertAlmostEqual(loudness(x, rate), pyloudnorm.Meter(rate).integrated_loudness(x), delta=0.05)
            mono = x[:, :1]
            self.assertAlmostEqual(loudness(mono, rate), pyloudnorm.Meter(rate).integrated_loudness(mono), delta=0.05)

    def test_silence_has_none(self):
        self.assertEqual(loudness(np.zeros((48_000, 2)), 48_000), -np.inf)
        self.assertEqual(loudness(np.zeros((100, 1)), 48_000), -np.inf)
