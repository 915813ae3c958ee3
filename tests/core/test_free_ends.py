"""One exact tempo with a free introduction or a slow-down at its end; soft machines; short free phrases."""

from unittest import TestCase

import numpy as np

from core.tempomap import Meters
from core.tracking.beat_tracker import track_beats
from core.tracking.free_ends import free_ends, leaving
from core.tracking.results import TrackingOptions
from tests.core.takes import bass_line, chords, drift, groove, record, tempo_map


class Leaving(TestCase):
    """Which of the last beats leave a grid of half a second."""

    def leaving(self, *last):
        """After twenty beats on the grid, intervals of so many beats."""
        beats = np.concatenate([np.arange(21), 20 + np.cumsum(last)])
        return leaving(7 + 0.5 * beats, 7.0, 0.5)

    def test_none_where_all_are_even(self):
        self.assertEqual(self.leaving(1, 1, 1, 1), 0)

    def test_those_that_slow_down(self):
        self.assertEqual(self.leaving(1.15, 1.2, 1.3, 1.4), 4)

    def test_those_that_slow_down_gently_too_from_the_first_one(self):
        self.assertEqual(self.leaving(1.035, 1.05, 1.07, 1.09, 1.11, 1.13, 1.15), 7)

    def test_those_at_another_tempo(self):
        self.assertEqual(self.leaving(*[0.85] * 12), 12)

    def test_off_beats_keep_the_tempo(self):
        self.assertEqual(self.leaving(1.5, 1, 1, 1, 1, 1), 0)

    def test_one_long_beat_is_no_tempo(self):
        self.assertEqual(self.leaving(1.6), 0)

    def test_a_beat_that_is_missed_in_between_is_none_either(self):
        self.assertEqual(self.leaving(1, 2, 1, 1, 1, 1, 2), 0)

    def test_a_chain_that_never_was_on_the_grid_leaves_nothing(self):
        self.assertEqual(leaving(0.3 * np.arange(40), 0.0, 0.5), 0)


class Ends(TestCase):
    def setUp(self):
        self.chain = 0.5 * np.concatenate([np.arange(40), 39 + np.cumsum(np.linspace(1.1, 1.4, 8))])

    def ends(self, attacks):
        off = attacks / 0.125 % 1.0
        on_grid = np.cos(2 * np.pi * off)
        return free_ends(self.chain, 0.0, 0.5, attacks, on_grid, np.ones(len(attacks)))

    def test_players_who_slow_down_are_followed(self):
        halves = (self.chain[1:] + self.chain[:-1]) / 2
        self.assertEqual(self.ends(np.sort(np.concatenate([self.chain, halves]))), (0, 8))

    def test_in_silence_the_grid_goes_on(self):
        self.assertEqual(self.ends(self.chain[:41]), (0, 0))

    def test_where_attacks_stay_on_the_grid_it_goes_on(self):
        self.assertEqual(self.ends(np.arange(0, self.chain[-1], 0.25)), (0, 0))

    def test_the_same_at_the_start(self):
        self.chain = self.chain[-1] - self.chain[::-1]
        start = self.chain[8] % 0.5
        self.chain -= start
        self.assertEqual(self.ends(self.chain), (8, 0))


class Played(TestCase):
    """A band to a click of 118 that takes its time at an end."""

    def found(self, bpm, **options):
        truth = tempo_map(bpm, Meters.of((1, "4/4")))
        bars = len(bpm) // 4
        made = record(truth, groove(truth, bars) | bass_line(truth, bars) | chords(truth, bars), jitter=0.001)
        return track_beats(made.tracks, TrackingOptions(**options)).map.beats().seconds, made.beats

    def missed(self, found, true):
        return int((np.abs(true[:, None] - found).min(axis=1) > 0.02).sum())

    def test_the_last_bars_slow_down(self):
        bpm = np.full(120, 118.0)
        bpm[-16:] *= np.linspace(1, 0.7, 16)
        found, true = self.found(bpm)
        self.assertEqual(self.missed(found, true), 0)
        np.testing.assert_allclose(np.diff(found[:100]), 60 / 118, atol=1e-4)  # even, but for what is free

    def test_the_first_bars_are_free(self):
        bpm = np.full(120, 118.0)
        bpm[:16] *= 0.9 + 0.12 * np.sin(np.arange(16) / 2.2)
        found, true = self.found(bpm)
        self.assertEqual(self.missed(found, true), 0)
        np.testing.assert_allclose(np.diff(found[-100:]), 60 / 118, atol=1e-4)

    def test_one_tempo_throughout_where_the_engineer_says_so(self):
        bpm = np.full(120, 118.0)
        bpm[-16:] *= np.linspace(1, 0.7, 16)
        found, _ = self.found(bpm, exact_tempo=True)
        self.assertLess(np.ptp(np.diff(found)), 1e-6)


class SoftAndShort(TestCase):
    def test_a_machine_s_soft_chords_have_its_exact_tempo(self):
        truth = tempo_map(np.full(128, 92.0), Meters.of((1, "4/4")))
        found = track_beats(record(truth, chords(truth, 32), jitter=0.012).tracks).map.beats().seconds
        self.assertLess(np.ptp(np.diff(found)), 1e-6)
        self.assertAlmostEqual(60 / float(np.diff(found).mean()), 92.0, delta=0.02)

    def test_a_short_free_phrase_keeps_its_own_time(self):
        for bpm in (drift(24, 118, 5), drift(24, 104, 3), np.linspace(120, 126, 16)):
            truth = tempo_map(bpm, Meters.of((1, "4/4")))
            made = record(truth, groove(truth, len(bpm) // 4) | bass_line(truth, len(bpm) // 4))
            found = track_beats(made.tracks).map.beats().seconds
            with self.subTest(beats=len(bpm), bpm=round(bpm[0])):
                self.assertGreater(np.ptp(np.diff(found)), 0.01)
                self.assertLess(np.abs(made.beats[:, None] - found).min(axis=1).max(), 0.015)
