"""How freely the tempo moves: evidence against enumeration of all chains, and takes played strictly and freely."""

from unittest import TestCase

import numpy as np

from core.tracking.decoder import decode
from core.tracking.parameters import FREE
from core.tracking.semi_markov import log_evidence, transition_costs
from core.tracking.tempo_freedom import estimate_costs


def enumerated(gain, shortest, prior, cost, ratio):
    """The sum over every chain of two or more beats, what follows an interval summing to one: the definition."""
    n = len(prior)
    lengths = np.arange(shortest, shortest + n)
    beside = (lengths[:, None] <= ratio * lengths) & (lengths <= ratio * lengths[:, None])
    follows = np.where(beside, np.exp(-cost - prior[:, None]), 0.0)
    follows /= follows.sum(axis=0)

    def onward(t, k):
        """Worth of all that may follow a beat at ``t`` after interval ``k``."""
        return 1 + sum(
            follows[j, k] * np.exp(gain[t + lengths[j]]) * onward(t + lengths[j], j)
            for j in range(n)
            if t + lengths[j] < len(gain)
        )

    return np.log(
        sum(
            np.exp(gain[t] + gain[t + lengths[k]] - prior[k]) * onward(t + lengths[k], k)
            for t in range(len(gain))
            for k in range(n)
            if t + lengths[k] < len(gain)
        )
    )


def played(intervals, seed=0):
    """A decoding curve with beats of various strength at such intervals (frames), and weaker strokes between them."""
    rng = np.random.default_rng(seed)
    beats = np.round(np.cumsum(np.concatenate([[80.0], intervals]))).astype(int)
    curve = rng.uniform(0, 0.1, beats[-1] + 100)
    curve[beats] = rng.uniform(0.3, 0.8, len(beats))
    half_way = (beats[1:] + beats[:-1]) // 2
    curve[half_way] = rng.uniform(0.1, 0.6, len(half_way))
    return np.max([np.roll(curve, -1) * 0.8, curve, np.roll(curve, 1) * 0.8], axis=0), beats


def phrases(bars=24, slower=0.78):
    """Beat intervals (frames) of phrases of four bars in 4/4 that hurry to their middle and slow down to their ends, a
    parabola of tempo (Todd 1985, "A model of expressive timing in tonal music", Music Perception 3); the last one ends
    in the ritardando of Friberg and Sundberg (1999, "Does music performance allude to locomotion?", JASA 105, with
    their q of 3), the tempo falling to half. Both from memory."""
    x = np.linspace(-1, 1, 16)
    tempo = np.tile(1 - (1 - slower) * x**2, bars // 4)
    tempo[-8:] *= np.cbrt(1 + (0.5**3 - 1) * np.linspace(0, 1, 8))
    return 52 / tempo


class Evidence(TestCase):
    def test_it_equals_enumeration(self):
        rng = np.random.default_rng(3)
        for ratio in (1.25, 1.6):
            gain, prior = rng.normal(0, 1, 30), rng.uniform(0, 0.5, 5)
            cost = transition_costs(5, 5, 1.2)
            self.assertAlmostEqual(
                log_evidence(gain, 5, prior, cost, ratio), enumerated(gain, 5, prior, cost, ratio), places=9
            )

    def test_there_is_none_where_no_chain_has_room(self):
        self.assertEqual(log_evidence(np.ones(20), 20, np.zeros(3), np.zeros((3, 3))), -np.inf)

    def test_what_is_not_used_costs(self):
        # with intervals that never change, a model without changes is the likelier one
        gain = np.full(2000, -2.0)
        gain[50::40] = 4.0
        strict, free = (log_evidence(gain, 35, np.zeros(11), transition_costs(35, 11, c)) for c in (8.0, 0.2))
        self.assertGreater(strict, free + 10)


class Freedom(TestCase):
    def test_strict_playing_keeps_the_usual_costs(self):
        rng = np.random.default_rng(1)
        for interval in (38, 52, 75):
            curve, _ = played(interval + rng.normal(0, 0.4, 120))
            self.assertEqual(estimate_costs(curve, interval), FREE)

    def test_slow_drift_is_no_freedom(self):
        curve, _ = played(np.linspace(46, 58, 140))
        self.assertEqual(estimate_costs(curve, 52.0), FREE)

    def test_phrases_that_breathe_are_found_by_lower_costs(self):
        curve, beats = played(phrases())
        usual = decode(curve, 75, 165, 115)[0]
        costs = estimate_costs(curve, float(np.median(np.diff(usual))))
        self.assertLess(costs.change, FREE.change)
        freed = decode(curve, 75, 165, 115, costs)[0]
        right = [np.mean(np.abs(beats[:-6, None] - chain).min(axis=1) <= 3) for chain in (usual, freed)]
        self.assertGreater(right[1], 0.97)
        self.assertGreater(right[1], right[0])
