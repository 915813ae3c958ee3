"""Strict and free playing: what changes of tempo cost, against all ways to read them; takes of either kind."""

from itertools import product
from unittest import TestCase

import numpy as np

from core.tracking.decoder import decode
from core.tracking.parameters import FREE_BEAT, FREE_CHANGE, STRICT
from core.tracking.semi_markov.model import change_costs
from core.tracking.tempo_freedom import decode_freely, tempo_cost


def played(intervals, seed=0):
    """A decoding curve with beats of various strength at such intervals (frames), and weaker strokes between them."""
    rng = np.random.default_rng(seed)
    beats = np.round(np.cumsum(np.concatenate([[80.0], intervals]))).astype(int)
    curve = rng.uniform(0, 0.1, beats[-1] + 100)
    curve[beats] = rng.uniform(0.3, 0.8, len(beats))
    half_way = (beats[1:] + beats[:-1]) // 2
    curve[half_way] = rng.uniform(0.1, 0.6, len(half_way))
    return np.max([np.roll(curve, -1) * 0.8, curve, np.roll(curve, 1) * 0.8], axis=0), beats


def ritardando(beats, to):
    """The tempo, falling to a share ``to`` within so many beats, of Friberg and Sundberg (1999, "Does music performance
    allude to locomotion?", JASA 105), with their q of 3. From memory."""
    return np.cbrt(1 + (to**3 - 1) * np.linspace(0, 1, beats))


def phrases(bars=24, slower=0.78):
    """Beat intervals (frames) of phrases of four bars in 4/4 that hurry to their middle and slow down to their ends, a
    parabola of tempo (Todd 1985, "A model of expressive timing in tonal music", Music Perception 3, from memory); the
    last one ends in a ritardando."""
    x = np.linspace(-1, 1, 16)
    tempo = np.tile(1 - (1 - slower) * x**2, bars // 4)
    tempo[-8:] *= ritardando(8, 0.5)
    return 52 / tempo


def found(chain, beats):
    return np.mean(np.abs(beats[:, None] - chain).min(axis=1) <= 3)


class Costs(TestCase):
    def test_they_are_those_of_the_cheapest_manners(self):
        rng = np.random.default_rng(5)
        over = STRICT.hold / 2
        read_freely = 0
        for _ in range(60):
            gaps = 50 * np.exp(np.cumsum(rng.normal(0, rng.choice([0.02, 0.15]), 7)))
            changes = [
                np.minimum(change_costs(gaps[:-1], gaps[1:], p), STRICT.hold) for p in (STRICT.change, FREE_CHANGE)
            ]
            each = {
                manners: sum(over for a, b in zip((0, *manners), (*manners, 0), strict=True) if a != b)
                + FREE_BEAT * sum(manners)
                + sum(changes[m][k] for k, m in enumerate(manners[:-1]))
                for manners in product((0, 1), repeat=7)
            }
            self.assertAlmostEqual(tempo_cost(gaps), min(each.values()), places=9)
            read_freely += any(min(each, key=each.get))
        self.assertTrue(5 < read_freely < 55, read_freely)

    def test_a_held_beat_costs_one_hold(self):
        gaps = np.full(24, 50.0)
        gaps[10] = 115
        self.assertAlmostEqual(tempo_cost(gaps), STRICT.hold, places=9)

    def test_even_beats_cost_nothing(self):
        self.assertEqual(tempo_cost(np.full(12, 50.0)), 0.0)


class Freedom(TestCase):
    def test_strict_playing_is_read_strictly(self):
        rng = np.random.default_rng(1)
        for interval in (38, 52, 75):
            curve, beats = played(interval + rng.normal(0, 0.4, 120))
            bpm = 6000 / interval
            chain, free = decode_freely(curve, bpm / 1.45, bpm * 1.45, bpm)
            self.assertFalse(free.any())
            np.testing.assert_array_equal(chain, decode(curve, bpm / 1.45, bpm * 1.45, bpm)[0])
            self.assertEqual(found(chain, beats[1:]), 1)

    def test_slow_drift_is_no_freedom(self):
        curve, _ = played(np.linspace(46, 58, 140))
        self.assertFalse(decode_freely(curve, 75, 165, 115)[1].any())

    def test_phrases_that_breathe_are_followed(self):
        curve, beats = played(phrases())
        usual, freed = decode(curve, 75, 165, 115)[0], decode_freely(curve, 75, 165, 115)[0]
        self.assertGreater(found(freed, beats[:-6]), 0.97)
        self.assertGreater(found(freed, beats[:-6]), found(usual, beats[:-6]))

    def test_a_slow_down_in_strict_playing_is_followed_and_the_rest_stays_strict(self):
        tempo = np.ones(120)
        tempo[50:66] = ritardando(16, 0.65)
        _, beats = played(52 / tempo)
        curve = np.zeros(beats[-1] + 100)
        curve[beats] = 1.0  # nothing between the beats
        chain, free = decode_freely(curve, 65, 165, 115)
        self.assertGreater(found(chain, beats[50:66]), 0.93)
        self.assertLess(found(decode(curve, 65, 165, 115)[0], beats[50:66]), 0.8)
        slow = (chain > beats[45]) & (chain < beats[70])
        self.assertTrue(free[slow].any())
        self.assertFalse(free[~slow].any())

    def test_where_nothing_is_worth_a_chain_there_is_none(self):
        chain, free = decode_freely(np.zeros(800), 75, 165, 115)
        self.assertEqual((len(chain), len(free)), (0, 0))
