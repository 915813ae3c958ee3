"""Beats divided into bars: in one meter, with odd bars, with stretches in another; and what repeats bar by bar."""

from itertools import combinations, pairwise
from unittest import TestCase

import numpy as np

from core.tracking import bars, downbeats
from core.tracking.parameters import NEW_METER, ODD_BAR


class Division(TestCase):
    def test_each_meter_is_told_from_its_accents(self):
        rng = np.random.default_rng(3)
        for count in (3, 4, 5, 7):
            n = 24 * count
            evidence = np.where(np.arange(n) % count == 2, 1.5, -0.4) + rng.normal(0, 0.3, n)
            alike = np.tile([0.9 if k and k % count == 0 else 0.1 for k in range(17)], (n - 1, 1))
            found = bars.divide(evidence, alike)
            self.assertEqual(found.beats, count)
            self.assertTrue((np.diff(found.downbeats) == count).all())
            self.assertEqual(found.downbeats[0], 2)

    def test_one_odd_bar_among_others(self):
        lengths = [4] * 10 + [2] + [4] * 12
        starts = np.concatenate([[0], np.cumsum(lengths)])[:-1]
        evidence = np.full(sum(lengths), -0.4)
        evidence[starts] = 1.6
        self.assertEqual(
            bars.divide(evidence, np.zeros((len(evidence) - 1, 17)), 4).downbeats.tolist(), starts.tolist()
        )

    def test_a_bar_may_rather_be_odd_where_a_beat_in_it_is_unsure(self):
        lengths = [4] * 8 + [3] + [4] * 8
        starts = np.concatenate([[0], np.cumsum(lengths)])[:-1]
        evidence = np.full(sum(lengths), -0.5)
        evidence[starts] = 1.5
        for unsure, odd in ((None, 0), (33, 1), (20, 0)):
            flags = np.arange(len(evidence)) == unsure
            found = bars.divide(evidence, np.zeros((len(evidence) - 1, 17)), 4, unsure=flags).downbeats
            self.assertEqual(np.count_nonzero(np.diff(found) != 4), odd, f"beat {unsure}")

    def test_bar_lines_are_the_best_of_all(self):
        rng = np.random.default_rng(5)
        for main, count in ((3, 11), (4, 12), (2, 10)):
            evidence, unsure = rng.normal(0, 2, count), rng.random(count) < 0.2

            def worth(lines, main=main, evidence=evidence, unsure=unsure):
                total = evidence[list(lines)].sum()
                for a, b in pairwise(lines):
                    odd = 0 if b - a == main else 2 if b - a == 1 else 1
                    total -= 1.5 * odd * (0.5 if unsure[a + 1 : b + 1].any() else 1.0)
                return total

            inside = [
                lines
                for many in range(1, count + 1)
                for lines in combinations(range(count), many)
                if lines[0] < main
                and lines[-1] >= count - main
                and all(max(1, main - 3) <= b - a <= main + 3 for a, b in pairwise(lines))
            ]
            found = bars.divisions(evidence, np.zeros(17), [main], unsure=unsure, odd_bar=1.5)[0].downbeats
            self.assertEqual(tuple(found.tolist()), max(inside, key=worth))

    def test_a_stretch_in_another_meter(self):
        """In the middle, at the start, at the end; three odd bars are no stretch, and what the engineer said stays."""
        for lengths in ([4] * 14 + [3] * 12 + [4] * 10, [3] * 10 + [4] * 16, [4] * 16 + [5] * 9):
            starts, evidence, alike = self.made(lengths)
            found = bars.divide(evidence, alike)
            self.assertEqual(found.beats, 4)
            self.assertEqual(found.downbeats.tolist(), starts)
            usual = bars.usual_beats(found.downbeats, found.beats)
            self.assertEqual(usual.tolist(), lengths)
            named = bars.divide(evidence, alike, 4).downbeats
            self.assertLess(np.count_nonzero(np.diff(named) != 4), 5)
            again = bars.divide(evidence, alike, 4, others={3, 5}).downbeats
            self.assertEqual(again.tolist(), starts)
        lengths = [4] * 9 + [3] * 3 + [4] * 9
        self.assertEqual(bars.usual_beats(np.cumsum([0, *lengths]), 4).tolist(), [4] * 22)
        lengths = [2] + [3] * 5 + [2] + [3] * 5 + [1] + [4] * 9
        usual = bars.usual_beats(np.cumsum([0, *lengths]), 4).tolist()
        self.assertEqual(usual, [3] * 12 + [4] * 11)

    def test_what_odd_bars_and_changes_of_meter_cost(self):
        for lengths, odd, ends in (
            ([4] * 20, 0, 0),
            ([4] * 9 + [2] + [4] * 10, 1, 0),
            ([4] * 9 + [3] * 3 + [4] * 10, 3, 0),
            ([4] * 9 + [3] * 8 + [4] * 10, 2, 0),
            ([4] * 20 + [3] * 8, 1, 1),
            ([4] * 9 + [3] * 4 + [2] + [3] * 4 + [4] * 10, 3, 0),
        ):
            cost = bars.irregularity(np.cumsum([0, *lengths]))
            self.assertEqual(cost, odd * ODD_BAR + ends * NEW_METER, lengths)
        self.assertEqual(bars.irregularity(np.array([3])), 0.0)

    def test_a_take_is_not_wholly_in_another_meter_than_its_main_one(self):
        evidence = np.full(96, 0.4)
        evidence[::3] = 1.0
        self.assertEqual(set(np.diff(bars.divide(evidence, np.zeros((95, 17)), 3, others={2}).downbeats)), {3})

    @staticmethod
    def made(lengths):
        """Bar lines, their evidence, and how alike beats are that lie in bars of so many beats."""
        starts = np.concatenate([[0], np.cumsum(lengths)])[:-1]
        count = sum(lengths)
        evidence = np.full(count, -3.0)
        evidence[starts] = 2.0
        own = np.repeat(lengths, lengths)[:-1]
        alike = np.stack([np.where(lag % own == 0, 0.6, 0.0) for lag in range(17)], axis=1)
        return starts.tolist(), evidence, alike


class Patterns(TestCase):
    """How much of a kind of evidence repeats bar by bar."""

    def test_what_repeats_every_four_beats_is_a_pattern_and_noise_is_none(self):
        repeating = np.tile([3.0, 0.0, 1.0, 0.0], 24)
        self.assertGreater(downbeats._periodic_share(repeating), 0.95)
        self.assertLess(downbeats._periodic_share(np.random.default_rng(2).normal(size=960)), 0.15)

    def test_an_odd_bar_spoils_only_its_own_stretch(self):
        odd = np.concatenate([np.tile([3.0, 0.0, 1.0, 0.0], 24), [3.0, 0.0], np.tile([3.0, 0.0, 1.0, 0.0], 16)])
        self.assertGreater(downbeats._periodic_share(odd), 0.8)

    def test_silence_and_a_few_beats_have_none(self):
        self.assertEqual(downbeats._periodic_share(np.zeros(100)), 0.0)
        self.assertEqual(downbeats._periodic_share(np.array([1.0, 0.0, 1.0])), 0.0)
