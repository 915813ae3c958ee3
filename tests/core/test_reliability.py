"""What the bench says of doubts: which tell of wrong beats, and that any may tell of a wrong bar line."""

from types import SimpleNamespace
from unittest import TestCase

import numpy as np

from bench.reliability import bar_doubts, doubts
from core.tempomap import Meters, TempoMap
from core.tracking.doubts.doubt import Doubt

#: One piece of music from before the first beat to the last.
ALL = [(0.0, 30.0)]
#: Forty beats at 120 a minute, in bars of four.
FOUND = TempoMap.from_beats(0.5 * np.arange(40), 0, Meters.of((1, "4/4")))


def solution(*told):
    """The map with doubts of these kinds, from and to these seconds."""
    return SimpleNamespace(map=FOUND, doubts=[Doubt(kind, start, end, 1, 0, 2, "", []) for kind, start, end in told])


class Reliability(TestCase):
    def setUp(self):
        self.beats = FOUND.beats().seconds.copy()
        self.beats[20:22] += 0.2  # at 10 and 10.5 s: two found where there is none, two missed
        self.downbeats = FOUND.beats().seconds[::4] + np.where(np.arange(10) == 5, 0.5, 0)  # the one at 10 s

    def test_doubts_about_which_beat_opens_a_bar_tell_nothing_of_wrong_beats(self):
        self.assertEqual(doubts(solution(), self.beats, ALL), (0, 4, 0, 0))
        self.assertEqual(doubts(solution(("weak", 9.9, 10.3), ("jump", 2, 3)), self.beats, ALL), (2, 4, 1, 2))
        for kind in ("bar lines", "downbeat"):
            with self.subTest(kind):
                self.assertEqual(doubts(solution((kind, 0, 20)), self.beats, ALL), (0, 4, 0, 0))

    def test_the_level_and_odd_bars_tell_of_them_and_are_not_judged_by_them(self):
        for kind in ("level", "meter", "end", "pause"):
            with self.subTest(kind):
                self.assertEqual(doubts(solution((kind, 0, 20)), self.beats, ALL), (4, 4, 0, 0))

    def test_any_doubt_tells_of_a_wrong_bar_line(self):
        self.assertEqual(bar_doubts(solution(), self.downbeats, ALL), (0, 2, 0, 0))
        self.assertEqual(bar_doubts(solution(("weak", 9.9, 10.1)), self.downbeats, ALL), (1, 2, 0, 0))
        self.assertEqual(bar_doubts(solution(("bar lines", 0, 20), ("meter", 2, 3)), self.downbeats, ALL), (2, 2, 1, 2))

    def test_doubts_beyond_the_truth_are_not_judged(self):
        self.assertEqual(doubts(solution(("weak", 30, 40)), self.beats, ALL), (0, 4, 0, 0))

    def test_nothing_is_judged_between_two_pieces(self):
        right = np.concatenate([self.beats[:18], self.beats[24:]])
        self.assertEqual(doubts(solution(("weak", 9, 12)), right, ALL), (6, 6, 1, 1))
        apart = [(0.0, float(right[17])), (float(right[18]), 20.0)]
        self.assertEqual(doubts(solution(("weak", 9, 12)), right, apart), (0, 0, 0, 1))
