"""How far an edit carries. After each edit with limited reach every beat outside it is bit-identical."""

from unittest import TestCase

import numpy as np

from core.tempomap import Meters, TempoMap, reach
from core.tempomap.counting import renumber, rescale
from core.tempomap.edits import EditError, join_bars, set_pin, split_bar
from core.tempomap.splice import between
from tests.core.test_grain import wandering


def same(case, a, b, first, last, shift=0):
    np.testing.assert_array_equal(a.beats(first + shift, last + shift).seconds, b.beats(first, last).seconds)


class Moving(TestCase):
    def setUp(self):
        self.map = set_pin(wandering(), 20, True)
        self.at = float(self.map.seconds_of_beat(8))

    def test_onward_keeps_tempos_up_to_the_next_pin(self):
        moved = reach.onward(self.map, 8, self.at + 0.04)
        same(self, moved, self.map, 0, 7)
        same(self, moved, self.map, 20, 32)
        np.testing.assert_allclose(moved.beats(8, 19).seconds - self.map.beats(8, 19).seconds, 0.04, atol=1e-12)
        self.assertTrue(moved.pins[8])

    def test_stretching_onward_carries_the_new_tempo_from_bar_one(self):
        free = wandering()
        moved = reach.stretch_onward(free, 4, float(free.seconds[0]) + 1.1 * float(free.seconds[4] - free.seconds[0]))
        np.testing.assert_allclose(np.diff(moved.seconds), 1.1 * np.diff(free.seconds), atol=1e-12)
        self.assertEqual(moved.seconds[0], free.seconds[0])

    def test_stretching_stops_at_pins_on_both_sides(self):
        held = set_pin(self.map, 6, True)
        moved = reach.stretch_onward(held, 10, float(held.seconds_of_beat(10)) + 0.03)
        same(self, moved, held, 0, 6)
        same(self, moved, held, 20, 32)

    def test_the_whole_map_moves_with_its_pins(self):
        moved = reach.shift(self.map, -0.04)
        np.testing.assert_allclose(moved.seconds, self.map.seconds - 0.04, atol=1e-12)
        with self.assertRaises(EditError):
            reach.shift(self.map, -5)

    def test_off_beats_become_beats(self):
        moved = reach.shift_by_beats(self.map, 0.5)
        np.testing.assert_allclose(
            moved.beats(0, 31).seconds, (self.map.seconds[:-1] + self.map.seconds[1:]) / 2, atol=1e-9
        )

    def test_beats_cannot_run_into_a_pin(self):
        with self.assertRaises(EditError):
            reach.onward(self.map, 19, float(self.map.seconds_of_beat(20)) + 0.1)


class CountingAnew(TestCase):
    def test_every_ratio_keeps_bar_one_and_the_beats_that_survive(self):
        tempo_map = wandering(49)
        for times, over in ((1, 2), (2, 1), (3, 2), (2, 3), (4, 3), (3, 4)):
            counted = rescale(tempo_map, times, over)
            gap = np.diff(counted.seconds[[0, -1]]) / (len(counted.seconds) - 1)
            old = np.diff(tempo_map.seconds[[0, -1]]) / 48
            self.assertAlmostEqual(float(old[0] / gap[0]), times / over, delta=0.02)
            self.assertEqual(counted.bar_seconds(1), tempo_map.bar_seconds(1))
            shared = np.arange(0, 48, over)
            np.testing.assert_array_equal(
                counted.seconds_of_beat(shared * times // over), tempo_map.seconds_of_beat(shared)
            )

    def test_half_may_begin_on_the_other_beat(self):
        tempo_map = wandering()
        np.testing.assert_array_equal(rescale(tempo_map, 1, 2, offset=1).beats(0, 9).seconds, tempo_map.seconds[1:20:2])

    def test_a_stretch_leaves_all_else_in_place(self):
        tempo_map = wandering()
        doubled = rescale(tempo_map, 2, 1, 8, 16)
        same(self, doubled, tempo_map, 0, 8)
        same(self, doubled, tempo_map, 16, 32, shift=8)
        np.testing.assert_array_equal(rescale(doubled, 1, 2, 8, 24).seconds, tempo_map.seconds)

    def test_a_stretch_that_does_not_divide(self):
        with self.assertRaisesRegex(EditError, "choose a stretch of 3, 6, 9 or so on"):
            rescale(wandering(), 2, 3, 8, 15)

    def test_a_count_in_taken_for_bar_one(self):
        tempo_map = wandering()
        counted = renumber(tempo_map, 4, 1)
        self.assertEqual(float(counted.bar_seconds(1)), float(tempo_map.seconds[4]))
        np.testing.assert_array_equal(counted.seconds, tempo_map.seconds)
        self.assertEqual(counted.beats().bar[0], 0)

    def test_bars_before_the_recording_cannot_be(self):
        with self.assertRaisesRegex(EditError, "before the recording"):
            renumber(wandering(), 4, 23)


class EndsAndBars(TestCase):
    def test_the_music_starts_and_ends_where_said(self):
        tempo_map = wandering()
        shorter = between(tempo_map, 4, 28)
        np.testing.assert_array_equal(shorter.seconds, tempo_map.seconds[4:29])
        longer = between(tempo_map, 0, 36)
        self.assertEqual(longer.beats().index[-1], 36)
        same(self, longer, tempo_map, 0, 32)

    def test_splitting_and_joining_bars_are_each_others_inverse(self):
        tempo_map = TempoMap.from_beats(np.arange(1, 40) * 0.5, 0, Meters.of((1, "4/4"), (6, "3/4"), (7, "4/4")))
        split = split_bar(tempo_map, 10)  # bar 3, after its second beat
        self.assertEqual(
            [split.meters.meter_at(b).felt for b in range(2, 9)], ["4/4", "2/4", "2/4", "4/4", "4/4", "3/4", "4/4"]
        )
        np.testing.assert_array_equal(split.beats().seconds, tempo_map.beats().seconds)
        self.assertEqual(join_bars(split, 3), tempo_map)
