"""Stretches exchanged for others, pins that no beat falls on, and meters of unequal beats seen as pulses."""

from unittest import TestCase

import numpy as np

from core.tempomap import Meters, TempoMap
from core.tempomap.counting import rescale
from core.tempomap.edits import EditError, set_pin
from core.tempomap.pulses import has_pulses, pulsed, same_place
from core.tempomap.splice import bars_between, splice
from tests.core.test_grain import wandering
from tests.core.test_reach import same


class PinsInACountAnew(TestCase):
    def test_a_pin_stays_where_no_beat_falls_any_more(self):
        tempo_map = set_pin(wandering(), 13, True)
        halved = rescale(tempo_map, 1, 2)
        self.assertEqual(halved.seconds[halved.pins].tolist(), [tempo_map.seconds[13]])
        self.assertEqual(halved.quarters[halved.pins].tolist(), [6.5])
        np.testing.assert_array_equal(halved.beats().seconds, tempo_map.seconds[::2])
        self.assertIn(tempo_map.seconds[13], rescale(halved, 2, 1).seconds)

    def test_in_a_stretch_too_and_what_follows_is_counted_right(self):
        tempo_map = set_pin(wandering(), 13, True)
        halved = rescale(tempo_map, 1, 2, 12, 16)
        self.assertEqual(halved.seconds[halved.pins].tolist(), [tempo_map.seconds[13]])
        same(self, halved, tempo_map, 16, 32, shift=-2)


class Splicing(TestCase):
    def test_more_beats_renumber_what_follows_and_move_nothing(self):
        tempo_map = wandering()
        a, b = tempo_map.seconds[[8, 12]]
        spliced = splice(tempo_map, np.linspace(a, b, 9))
        same(self, spliced, tempo_map, 0, 8)
        same(self, spliced, tempo_map, 12, 32, shift=4)

    def test_points_between_beats_keep_their_place_between(self):
        halved = rescale(set_pin(wandering(65), 41, True), 1, 2)
        a, b = halved.beats(4, 8).seconds[[0, -1]]
        spliced = splice(halved, np.linspace(a, b, 9))
        self.assertEqual(spliced.quarters[spliced.pins].tolist(), [24.5])
        same(self, spliced, halved, 8, 32, shift=4)

    def test_a_pin_in_the_stretch_stays_and_the_nearest_beat_goes_there(self):
        tempo_map = set_pin(wandering(), 20, True)
        pin = float(tempo_map.seconds[20])
        new = tempo_map.seconds[14:30] + 0.03
        spliced = splice(tempo_map, new)
        self.assertEqual(spliced.seconds[spliced.pins].tolist(), [pin])
        np.testing.assert_array_equal(np.delete(spliced.seconds[14:30], 6), np.delete(new, 6))

    def test_a_pin_far_from_the_new_beats_stands_between_them(self):
        tempo_map = set_pin(wandering(), 21, True)
        pin = float(tempo_map.seconds[21])
        spliced = splice(tempo_map, tempo_map.seconds[14:31:2])  # half as many beats: none falls on the pin
        self.assertEqual(spliced.seconds[spliced.pins].tolist(), [pin])
        np.testing.assert_allclose(spliced.beats().seconds[14:23], tempo_map.seconds[14:31:2])

    def test_a_pin_just_beside_the_stretch_pulls_no_beat_of_it(self):
        """Four tenths of a beat outside it stands between, on either side; the new beats are where they were put."""
        tempo_map = set_pin(set_pin(wandering(), 13, True), 28, True)
        pins = tempo_map.seconds[tempo_map.pins]
        new = np.linspace(pins[0] + 0.2, pins[1] - 0.2, 16)
        spliced = splice(tempo_map, new)
        self.assertEqual(spliced.seconds[spliced.pins].tolist(), pins.tolist())
        self.assertTrue(np.isin(new, spliced.seconds).all())
        self.assertTrue((np.diff(spliced.quarters) > 0).all())

    def test_two_pins_for_one_beat_are_refused(self):
        tempo_map = set_pin(set_pin(wandering(), 20, True), 21, True)
        with self.assertRaisesRegex(EditError, "Unpin"):
            splice(tempo_map, np.linspace(tempo_map.seconds[12], tempo_map.seconds[28], 5) + 0.2)

    def test_what_was_spliced_in_may_be_pinned(self):
        tempo_map = wandering()
        new = tempo_map.seconds[8:13] + 0.01
        spliced = splice(tempo_map, new, [True, False, False, False, True])
        self.assertEqual(spliced.seconds[spliced.pins].tolist(), [new[0], new[-1]])


class MetersStayWithTheMusic(TestCase):
    """An odd bar far behind an edited stretch opens at the same moment as before."""

    def setUp(self):
        plain = wandering(65)
        self.map = TempoMap(plain.seconds, plain.quarters, Meters.of((1, "4/4"), (9, "2/4"), (10, "4/4")))
        self.odd = float(self.map.bar_seconds(9))

    def opens(self, tempo_map):
        bar = next(c.bar for c in tempo_map.meters.changes if c.meter.beats == 2)
        return float(tempo_map.bar_seconds(bar)), float(tempo_map.bar_seconds(bar + 1))

    def test_after_a_stretch_with_more_beats(self):
        a, b = self.map.seconds[[8, 16]]
        self.assertEqual(self.opens(splice(self.map, np.linspace(a, b, 17))), self.opens(self.map))

    def test_after_a_stretch_counted_anew(self):
        for times, over in ((2, 1), (1, 2)):
            self.assertEqual(self.opens(rescale(self.map, times, over, 8, 16)), self.opens(self.map))

    def test_one_beat_more_moves_bar_lines_as_it_must(self):
        a, b = self.map.seconds[[8, 16]]
        moved = splice(self.map, np.linspace(a, b, 10))
        self.assertEqual(moved.meters, self.map.meters)
        same(self, moved, self.map, 16, 40, shift=1)


class ThisIsSoManyBars(TestCase):
    def test_ends_become_pinned_bar_lines(self):
        tempo_map = wandering(49)
        laid = bars_between(tempo_map, float(tempo_map.seconds[8]), float(tempo_map.seconds[24]), 4)
        np.testing.assert_allclose(laid.bar_seconds([3, 7]), tempo_map.seconds[[8, 24]], atol=1e-12)
        self.assertEqual(int(laid.pins.sum()), 2)
        same(self, laid, tempo_map, 24, 48)

    def test_a_bar_that_is_cut_short_becomes_an_odd_one(self):
        tempo_map = wandering(49)
        laid = bars_between(tempo_map, float(tempo_map.seconds[10]), float(tempo_map.seconds[26]), 4)
        self.assertEqual([laid.meters.meter_at(b).felt for b in (2, 3, 4, 5)], ["4/4", "2/4", "4/4", "4/4"])
        self.assertAlmostEqual(float(laid.bar_seconds(4)), float(tempo_map.seconds[10]), places=12)
        np.testing.assert_array_equal(laid.seconds[:10], tempo_map.seconds[:10])

    def test_odd_bars_inside_go_and_later_ones_stay_with_the_music(self):
        plain = wandering(65)
        tempo_map = TempoMap(
            plain.seconds, plain.quarters, Meters.of((1, "4/4"), (4, "6/4"), (5, "4/4"), (9, "2/4"), (10, "4/4"))
        )
        start, end, later = tempo_map.bar_seconds([3, 5, 9])
        laid = bars_between(tempo_map, float(start), float(end), 2)
        self.assertEqual([laid.meters.meter_at(b).felt for b in (3, 4, 5, 9, 10)], ["4/4", "4/4", "4/4", "2/4", "4/4"])
        np.testing.assert_allclose(laid.bar_seconds([3, 5, 9]), [start, end, later], atol=1e-9)

    def test_more_bars_move_later_meters_on(self):
        plain = wandering(65)
        tempo_map = TempoMap(plain.seconds, plain.quarters, Meters.of((1, "4/4"), (9, "2/4"), (10, "4/4")))
        start, end, later = tempo_map.bar_seconds([3, 5, 9])
        laid = bars_between(tempo_map, float(start), float(end), 4)
        self.assertEqual([laid.meters.meter_at(b).felt for b in (10, 11, 12)], ["4/4", "2/4", "4/4"])
        np.testing.assert_allclose(laid.bar_seconds(11), later, atol=1e-9)

    def test_what_nobody_plays_is_refused(self):
        tempo_map = wandering(49)
        for bars in (0, 90):
            with self.assertRaises(EditError):
                bars_between(tempo_map, float(tempo_map.seconds[0]), float(tempo_map.seconds[48]), bars)


class Pulses(TestCase):
    def setUp(self):
        self.map = TempoMap.steady(140, Meters.of((1, "2+2+3/8"), (5, "4/4")), start=1.0, bars=8)

    def test_the_same_bars_felt_evenly(self):
        even = pulsed(self.map)
        self.assertTrue(has_pulses(self.map))
        self.assertFalse(has_pulses(even))
        np.testing.assert_array_equal(even.bar_seconds(np.arange(1, 9)), self.map.bar_seconds(np.arange(1, 9)))
        self.assertEqual(even.meters.meter_at(5).felt, "4/4")
        self.assertEqual(len(even.beats()) - len(self.map.beats()), 4 * (7 - 3))

    def test_places_in_both(self):
        even = pulsed(self.map)
        self.assertEqual([same_place(i, self.map, even) for i in range(5)], [0, 2, 4, 7, 9])
        self.assertEqual(same_place(4, even, self.map), 2)
        self.assertAlmostEqual(same_place(5, even, self.map), 2 + 1 / 3)
