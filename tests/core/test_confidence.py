"""Posteriors against enumeration of all chains, exact tempos against the ones that were made."""

from unittest import TestCase

import numpy as np

from core.listening.attacks import Attacks
from core.listening.guides import GuideRank
from core.listening.spectrum import Evidence
from core.listening.track import AnalysedTrack
from core.tempomap import TempoMap
from core.tracking import confidence, exact_tempo
from core.tracking.decoder import posterior
from core.tracking.hypothesis import TempoHypothesis
from core.tracking.semi_markov import beat_posterior, transition_costs


def enumerate_posterior(gain, shortest, longest, prior, change):
    """Every chain of two or more beats, weighted by its likelihood: the textbook definition."""
    cost = transition_costs(shortest, longest - shortest + 1, change)
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
                go(t + i, i, score + gain[t + i] - step - prior[i - shortest], [*chain, t + i])

    for t in range(len(gain)):
        go(t, 0, gain[t], [t])
    return mass / total


class Posterior(TestCase):
    def test_forward_backward_equals_enumeration(self):
        rng = np.random.default_rng(4)
        for _ in range(4):
            gain = rng.normal(0, 1, 26)
            prior = rng.uniform(0, 0.3, 4)
            got = beat_posterior(gain, 6, prior, transition_costs(6, 4, 1.5), 1.25)
            np.testing.assert_allclose(got, enumerate_posterior(gain, 6, 9, prior, 1.5), atol=1e-9)

    def test_long_and_loud_takes_keep_to_numbers(self):
        gain = np.zeros(30_000)
        gain[20::25] = 400.0  # each beat worth e to the 400
        gain[9000:20_000] = -3.0
        got = beat_posterior(gain, 20, np.zeros(12), transition_costs(20, 12, 1.0), 1.25)
        self.assertTrue(np.isfinite(got).all())
        self.assertGreater(got[20:9000:25].min(), 0.99)
        self.assertLess(got[30:9000:25].max(), 0.01)
        # shorter than one interval there is no chain
        np.testing.assert_array_equal(beat_posterior(gain[:20], 20, np.zeros(12), np.zeros((12, 12))), 0)

    def test_clear_pulses_are_sure_and_noise_is_not(self):
        times = np.arange(100, 5000, 50)
        clear = np.zeros(5100)
        clear[times] = 1.0
        self.assertGreater(posterior(clear, times).min(), 0.9)
        noise = np.random.default_rng(0).uniform(0, 1, 5100)
        self.assertLess(np.median(posterior(noise, times)), 0.6)

    def test_music_is_where_beats_are_likely(self):
        posteriors = np.concatenate([np.full(3, 0.1), np.full(40, 0.95), np.full(9, 0.2)])
        inside = confidence.certain_range(posteriors)
        self.assertEqual((inside.start, inside.stop), (3, 43))


class ExactTempo(TestCase):
    def grid(self, times, chain=None):
        attacks = Attacks(np.sort(times), np.ones(len(times)), np.ones(len(times)))
        pulse = np.zeros(round(100 * max(times)) + 300)
        pulse[np.round(100 * np.asarray(self.beats)).astype(int)] = 1.0
        rank = GuideRank("x", 1.0, 0.7, 0.7, "")
        player = AnalysedTrack("x", Evidence.of_silence(len(pulse)), attacks)
        return exact_tempo.find_exact_tempo([player], [rank], pulse, np.asarray(self.beats if chain is None else chain))

    def test_period_and_phase_with_wrong_attacks_between(self):
        rng = np.random.default_rng(1)
        self.beats = 1.5 + 0.4759 * np.arange(200)
        times = self.beats + rng.normal(0, 0.0003, 200)
        times[::17] += 0.03
        grid = self.grid(times)
        self.assertTrue(grid.is_exact)
        self.assertAlmostEqual(60 / grid.interval, 60 / 0.4759, delta=0.001)
        self.assertLess(np.abs(grid.beats(1.5, 96) - self.beats[: len(grid.beats(1.5, 96))]).max(), 0.001)

    def test_eight_bars_in_which_nobody_strikes(self):
        rng = np.random.default_rng(2)
        self.beats = 0.7 + 60 / 126.055 * np.arange(240)
        struck = np.concatenate([self.beats[:100], self.beats[132:]]) + rng.normal(0, 0.0005, 208)
        grid = self.grid(struck)
        self.assertTrue(grid.is_exact)
        self.assertAlmostEqual(60 / grid.interval, 126.055, delta=0.001)
        np.testing.assert_allclose(grid.beats(self.beats[0], self.beats[-1]), self.beats, atol=0.001)

    def test_a_chain_that_lost_beats_bends_nothing(self):
        self.beats = 0.7 + 60 / 95 * np.arange(200)
        grid = self.grid(self.beats, np.delete(self.beats, [40, 41, 90, 150]))
        self.assertAlmostEqual(60 / grid.interval, 95.0, delta=0.001)

    def test_swung_attacks_stand_on_thirds(self):
        self.beats = 0.5 + 0.4 * np.arange(150)
        grid = self.grid(np.concatenate([self.beats, self.beats[:-1] + 0.4 * 2 / 3]))
        self.assertTrue(grid.is_exact)
        self.assertAlmostEqual(grid.interval, 0.4, delta=1e-5)

    def test_a_human_who_drifts_is_not_even(self):
        self.beats = 1 + np.cumsum(0.5 + 0.01 * np.sin(np.arange(100) / 9))
        self.assertFalse(self.grid(self.beats).is_exact)

    def test_the_straightened_map_has_two_points(self):
        self.beats = 1 + 0.5 * np.arange(100)
        made = TempoMap.from_beats(self.beats + 0.003 * np.sin(np.arange(100)))
        kept = exact_tempo.straightened(made, self.grid(self.beats))
        self.assertEqual(len(kept.seconds), 2)
        np.testing.assert_allclose(kept.beats().seconds, self.beats, atol=5e-4)

    def test_the_grid_is_moved_to_its_beats_where_other_attacks_pull_it(self):
        grid = exact_tempo.ExactTempo(1.0, 0.5, 0.9, 0.01)
        beats = 1.0 + 0.5 * np.arange(40)
        self.assertAlmostEqual(exact_tempo.aligned(grid, beats + 0.008).start, 1.008)
        self.assertEqual(exact_tempo.aligned(grid, beats + 0.003).start, 1.0)  # within half a frame
        self.assertEqual(exact_tempo.aligned(grid, beats + 0.25).start, 1.0)  # off-beats
        one_astray = np.append(beats + 0.008, 30.1)
        self.assertAlmostEqual(exact_tempo.aligned(grid, one_astray).start, 1.008)

    def test_a_map_keeps_its_free_ends(self):
        free = np.array([0.2, 1.0, 1.7])
        held = 2.3 + 0.5 * np.arange(30)
        after = held[-1] + np.cumsum([0.6, 0.7])
        made = TempoMap.from_beats(np.concatenate([free, held + 0.002 * np.sin(np.arange(30)), after]))
        exact = exact_tempo.ExactTempo(2.3, 0.5, 0.9, 0.01, first=2.3, last=float(held[-1]))
        kept = exact_tempo.straightened(made, exact).beats().seconds
        np.testing.assert_allclose(kept, np.concatenate([free, held, after]), atol=1e-9)

    def test_segments_that_leave_the_grid_are_told(self):
        self.beats = 0.5 + 0.4 * np.arange(500)
        self.assertEqual(self.grid(self.beats).off_grid, ())
        bent = self.beats.copy()
        bent[-20:] += 0.02
        grid = self.grid(bent)
        self.assertTrue(grid.is_exact)
        self.assertTrue(grid.off_grid)
        self.assertGreater(grid.off_grid[0][0], self.beats[-45])


class Together(TestCase):
    """Beats of an exact tempo are right or wrong together."""

    def confidence(self, seconds, exact):
        posteriors = np.full(len(seconds), 0.98)
        posteriors[40:60] = 0.01  # a fill on everything but the beat
        curve = np.zeros(round(100 * seconds[-1]) + 300)
        curve[np.round(100 * seconds).astype(int)] = np.where(posteriors > 0.5, 0.95, 0.1)
        best = TempoHypothesis(
            np.round(100 * seconds).astype(np.int64), 120.0, 5.0, 1.0, 0.0, 0.0, {"agreement": 0.9}, exact_tempo=exact
        )
        support = np.where(posteriors > 0.5, 1.0, 0.0)
        features = confidence.confidence_features(posteriors, support, curve, seconds, best, [], np.zeros(len(seconds)))
        return confidence.confidence_of(features)

    def test_a_fill_makes_none_of_them_less_sure_and_a_free_player_s_it_does(self):
        seconds = 1 + 0.5 * np.arange(200)
        exact = exact_tempo.ExactTempo(1.0, 0.5, 0.9, 0.001)
        together, alone = self.confidence(seconds, exact), self.confidence(seconds, None)
        self.assertAlmostEqual(np.ptp(together), 0.0, delta=0.02)
        self.assertLess(alone[40:60].max(), alone[70:].min() - 0.02)

    def test_an_even_map_under_free_players_hides_nothing(self):
        seconds = 1 + 0.5 * np.arange(200)
        strays = exact_tempo.ExactTempo(1.0, 0.5, 0.9, 0.2)
        found = self.confidence(seconds, strays)
        self.assertLess(found[40:60].max(), found[70:].min() - 0.02)

    def test_a_beat_off_the_grid_and_one_where_nobody_keeps_it_stand_for_themselves(self):
        seconds = 1 + 0.5 * np.arange(200)
        seconds[45] += 0.1
        exact = exact_tempo.ExactTempo(1.0, 0.5, 0.9, 0.001, off_grid=((24.0, 26.2),))
        found = self.confidence(seconds, exact)
        apart = np.flatnonzero(found < found[100] - 0.02)
        self.assertEqual(apart.tolist(), [45, 46, 47, 48, 49, 50])
