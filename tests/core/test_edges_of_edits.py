"""Where edits end: the first and the last that can be, what they keep, and sentences where they cannot be. Found by a
mutation tester (docs/measured.md): each test fails on a change that all others let through."""

from unittest import TestCase

import numpy as np

from core.tempomap import Meters, TempoMap, edits, reach
from core.tempomap.bar_lines import lines_of, usual_meter, with_lines_kept
from core.tempomap.counting import renumber
from core.tempomap.edits import EditError, pins_of
from core.tempomap.limits import CLOSEST
from core.tempomap.meter import Meter, MeterChange
from core.tempomap.splice import bars_between, between, splice


def drifting(count=33, first=0, meters=None, start=1.0):
    gaps = 0.5 + 0.03 * np.sin(np.arange(count - 1) / 3)
    return TempoMap.from_beats(start + np.concatenate([[0], np.cumsum(gaps)]), first, meters)


class Downbeats(TestCase):
    def test_as_far_as_a_bar_stays_inside(self):
        full = drifting(9)
        for by in (7, -1):  # the last but one of nine beats, and one before the first
            self.assertEqual(edits.shift_downbeat(full, by).bar_range[0] <= 1, True)
        for by in (8, 20, -30):
            with self.subTest(by), self.assertRaisesRegex(EditError, "Bar 1 has to start inside"):
                edits.shift_downbeat(full, by)

    def test_pins_stay_on_their_beats(self):
        pinned = edits.set_pin(drifting(17), 5, True)
        moved = edits.shift_downbeat(pinned, 1)
        self.assertEqual(moved.seconds[pins_of(moved)].tolist(), pinned.seconds[pins_of(pinned)].tolist())
        again = renumber(pinned, 8, 2)
        self.assertEqual(again.seconds[pins_of(again)].tolist(), pinned.seconds[pins_of(pinned)].tolist())

    def test_a_number_that_puts_bar_one_before_the_recording(self):
        full = drifting(33, start=4.2)  # four seconds in front: two bars of 120 fit
        self.assertEqual(renumber(full, 0, 3).bar_range[0], 3)
        with self.assertRaisesRegex(EditError, "before the recording starts if this were bar 4"):
            renumber(full, 0, 4)
        self.assertEqual(renumber(full, 0, 1).bar_range[0], 1)  # first beat is bar 1: nothing lies before

    def test_a_number_that_leaves_bar_one_behind(self):
        full = drifting(10)  # the tenth beat is the second of a bar
        self.assertEqual(int(renumber(full, 4, 0).beats().bar[-1]), 1)
        with self.assertRaisesRegex(EditError, "Bar 1 has to start inside"):
            renumber(full, 4, -1)


class BarsSplitAndJoined(TestCase):
    def test_where_a_bar_starts_already_it_is_not_split(self):
        for beat in (0, 4):
            with self.assertRaisesRegex(EditError, "A bar starts here already"):
                edits.split_bar(drifting(), beat)
        lines = edits.split_bar(drifting(), 5).meters
        self.assertEqual([str(lines.meter_at(b)) for b in (1, 2, 3, 4)], ["4/4", "1/4", "3/4", "4/4"])
        self.assertEqual([str(edits.split_bar(drifting(), 1).meters.meter_at(b)) for b in (1, 2)], ["1/4", "3/4"])

    def test_what_lies_before_bar_one_is_neither_split_nor_joined(self):
        full = drifting(20, -6)
        with self.assertRaisesRegex(EditError, "What lies before bar 1"):
            edits.split_bar(full, -2)
        with self.assertRaisesRegex(EditError, "What lies before bar 1"):
            edits.join_bars(full, 0)
        self.assertEqual(str(edits.join_bars(full, 1).meters.meter_at(1)), "8/4")

    def test_meters_around_stay(self):
        meters = Meters.of((1, "4/4"), (3, "3/4"), (4, "5/4"), (6, "4/4"))
        joined = edits.join_bars(drifting(40, meters=meters), 3).meters
        self.assertEqual([str(joined.meter_at(b)) for b in (2, 3, 4, 5, 6)], ["4/4", "8/4", "5/4", "4/4", "4/4"])
        split = edits.split_bar(drifting(40, meters=meters), 9).meters  # inside bar 3
        self.assertEqual(
            [str(split.meter_at(b)) for b in (2, 3, 4, 5, 6, 7)], ["4/4", "1/4", "2/4", "5/4", "5/4", "4/4"]
        )

    def test_groups_stay_with_their_beats(self):
        meters = Meters((MeterChange(1, Meter(7, 8, (2, 2, 3))),))
        split = edits.split_bar(drifting(20, meters=meters), 2).meters
        self.assertEqual((split.meter_at(1).groups, split.meter_at(2).groups), ((2, 2), (3,)))
        with self.assertRaisesRegex(EditError, "do not make one bar"):
            edits.join_bars(drifting(20, meters=Meters.of((1, "7/8"), (2, "3/4"))), 1)


class LinesKept(TestCase):
    def lines(self, tempo_map):
        return lines_of(tempo_map)[0].tolist()

    def test_odd_bars_outside_what_is_counted_anew_stay(self):
        for at in (2, 6):  # before what is counted anew, and behind it
            meters = Meters.of((1, "4/4"), (at, "5/4"), (at + 1, "4/4"))
            full = drifting(41, meters=meters)
            anew = tuple(full.seconds_of_beat(np.array([17 if at == 2 else 8, 21 if at == 2 else 12])).tolist())
            kept = with_lines_kept(full, full, anew)
            self.assertEqual(self.lines(kept), self.lines(full))

    def test_a_bar_that_grew_elsewhere_is_not_counted_anew(self):
        full = drifting(33)
        grown = edits.insert_beat(full, float(full.seconds_of_beat(5.5)))
        far = tuple(full.seconds_of_beat(np.array([20.0, 24.0])).tolist())
        kept = with_lines_kept(full, grown, far)
        self.assertEqual(self.lines(kept)[:5], [0, 4, 9, 13, 17])
        # where that very stretch is counted anew, its bars are whole again
        here = tuple(full.seconds_of_beat(np.array([3.5, 9.5])).tolist())
        self.assertEqual(self.lines(with_lines_kept(full, grown, here))[:5], [0, 4, 8, 12, 13])

    def test_the_meter_that_rules_around_a_bar(self):
        meters = Meters.of((1, "3/4"), (2, "4/4"), (5, "5/4"), (6, "4/4"), (8, "3/4"), (10, "2/4"))
        full = drifting(50, meters=meters)
        found = [str(usual_meter(full, b)) for b in range(1, 11)]
        self.assertEqual(found, ["4/4", "4/4", "4/4", "4/4", "4/4", "4/4", "4/4", "3/4", "3/4", "2/4"])

    def test_an_odd_last_bar_and_one_that_is_counted_anew(self):
        full = drifting(14, meters=Meters.of((1, "4/4"), (3, "5/4")))  # lines 0, 4, 8, 13
        self.assertEqual(self.lines(full), [0, 4, 8, 13])
        kept = with_lines_kept(full, full, (0.0, 0.5))
        self.assertEqual(self.lines(kept), [0, 4, 8, 13])
        longer = drifting(33, meters=Meters.of((1, "4/4"), (3, "5/4"), (4, "4/4")))
        inside = tuple(longer.seconds_of_beat(np.array([7.5, 13.5])).tolist())
        self.assertEqual(self.lines(with_lines_kept(longer, longer, inside))[:6], [0, 4, 8, 12, 16, 17])


class Splices(TestCase):
    def test_a_stretch_at_the_very_start(self):
        full = drifting(17)
        new = np.linspace(float(full.seconds[0]), float(full.seconds[4]), 6)
        made = splice(full, new)
        self.assertEqual(made.beats().index[0], 0)
        np.testing.assert_allclose(made.seconds_of_beat(np.arange(6)), new)
        np.testing.assert_allclose(made.seconds_of_beat(np.arange(6, 18)), full.seconds[5:])

    def test_beats_in_front_keep_their_count_and_those_behind_follow(self):
        full = drifting(33)
        a, b = float(full.seconds[8]), float(full.seconds[16])
        new = np.linspace(a, b, 7)  # six beats in place of eight
        made = splice(full, new)
        self.assertEqual(made.beats().index[:8].tolist(), list(range(8)))
        np.testing.assert_allclose(made.seconds_of_beat(np.arange(8, 15)), new)
        np.testing.assert_allclose(made.seconds_of_beat(np.arange(15, 31)), full.seconds[17:33])
        self.assertEqual(pins_of(made).sum(), 0)
        self.assertEqual(pins_of(splice(full, new, pins=np.arange(7) == 3)).sum(), 1)

    def test_bars_that_nobody_plays(self):
        full = drifting(33)
        for bars, seconds in ((0, 4.0), (1, 0.4), (1, 24.0)):
            with self.assertRaisesRegex(EditError, "no tempo anybody plays"):
                bars_between(full, 2.0, 2.0 + seconds, bars)


class OneBeatMoved(TestCase):
    def coarse(self):
        """Points at beats 0, 8 and 16 only."""
        return TempoMap([1.0, 5.0, 9.4], [0.0, 8.0, 16.0])

    def test_on_a_coarse_map_only_that_beat_moves(self):
        full = self.coarse()
        moved = edits.move_beat(full, 4, 3.1)
        others = np.delete(np.arange(-3, 20), 7)
        np.testing.assert_allclose(moved.seconds_of_beat(others), full.seconds_of_beat(others), atol=1e-12)
        self.assertEqual(float(moved.seconds_of_beat(4)), 3.1)
        self.assertEqual(len(moved.seconds), 6)  # the beats beside it are points now, no others
        self.assertEqual(moved.quarters[pins_of(moved)].tolist(), [4.0])

    def test_a_point_and_the_ends_move_without_new_points(self):
        for beat, seconds in ((8, 5.1), (0, 0.9), (16, 9.5)):
            moved = edits.move_beat(self.coarse(), beat, seconds)
            self.assertEqual(len(moved.seconds), 3)
            self.assertEqual(float(moved.seconds_of_beat(beat)), seconds)

    def test_beats_beyond_the_ends_extend_the_map(self):
        self.assertEqual(edits.move_beat(self.coarse(), -1, 0.4).quarters[0], -1)
        self.assertEqual(edits.move_beat(self.coarse(), 17, 10.0).quarters[-1], 17)
        self.assertEqual(edits.move_beat(TempoMap([0.6, 2.6], [0.0, 4.0]), -1, 0.0).seconds[0], 0.0)
        with self.assertRaisesRegex(EditError, "before the recording starts"):
            edits.move_beat(TempoMap([0.6, 2.6], [0.0, 4.0]), -1, -1e-6)

    def test_how_near_a_neighbour_may_come(self):
        full = drifting(9)
        before, after = float(full.seconds[3]), float(full.seconds[5])
        for ok in (before + CLOSEST + 1e-9, after - CLOSEST - 1e-9):
            self.assertEqual(float(edits.move_beat(full, 4, ok).seconds_of_beat(4)), ok)
        with self.assertRaisesRegex(EditError, "A beat cannot pass the beat before it"):
            edits.move_beat(full, 4, before + CLOSEST - 1e-6)
        with self.assertRaisesRegex(EditError, "A beat cannot pass the beat after it"):
            edits.move_beat(full, 4, after - CLOSEST + 1e-6)
        # over several beats without points the limit is that of one beat; between beats it is their share
        far = TempoMap([1.0, 5.0], [0.0, 8.0])
        self.assertEqual(len(edits.move_beat(far, 8, 1.0 + CLOSEST + 1e-9).seconds), 2)
        half = TempoMap([1.0, 1.2, 3.0], [0.0, 0.5, 4.0])
        self.assertEqual(float(edits.move_beat(half, 0, 1.2 - 0.6 * CLOSEST).seconds[0]), 1.2 - 0.6 * CLOSEST)
        with self.assertRaises(EditError):
            edits.move_beat(half, 0, 1.2 - 0.4 * CLOSEST)


class Pins(TestCase):
    def test_one_is_let_go_and_the_others_stay(self):
        full = TempoMap([1.0, 5.0, 9.4], [0.0, 8.0, 16.0], Meters(), [True, True, False])
        free = edits.set_pin(full, 8, False)
        self.assertEqual(pins_of(free).tolist(), [True, False, False])
        self.assertEqual((free.seconds.tolist(), free.quarters.tolist()), ([1.0, 5.0, 9.4], [0.0, 8.0, 16.0]))
        # where there is no pin nothing changes, and no point is added
        self.assertEqual(len(edits.set_pin(full, 3, False).seconds), 3)
        pinned = edits.set_pin(full, 3, True)
        self.assertEqual(pinned.quarters[pins_of(pinned)].tolist(), [0.0, 3.0, 8.0])
        self.assertEqual(len(pinned.seconds), 4)

    def test_the_ends_can_be_pinned_and_what_lies_beyond_cannot(self):
        full = TempoMap([1.0, 5.0], [0.0, 8.0])
        for beat in (0, 8):
            self.assertEqual(pins_of(edits.set_pin(full, beat, True)).sum(), 1)
        for beat in (-1, 9):
            with self.assertRaisesRegex(EditError, "That beat lies outside the mapped music"):
                edits.set_pin(full, beat, True)


class Reaches(TestCase):
    def pinned(self, *beats):
        full = drifting(33)
        for beat in beats:
            full = edits.set_pin(full, beat, True)
        return full

    def test_the_whole_map_moves_with_its_pins(self):
        full = self.pinned(4, 20)
        moved = reach.shift(full, -1.0)  # the first beat stood at one second
        np.testing.assert_allclose(moved.seconds, full.seconds - 1)
        np.testing.assert_array_equal(pins_of(moved), pins_of(full))
        with self.assertRaisesRegex(EditError, "The first beat cannot lie before the recording starts"):
            reach.shift(full, -1.000001)

    def test_bent_beats_give_way_up_to_the_next_pin(self):
        full = self.pinned(14)
        moved = reach.bend(full, 10, float(full.seconds[10]) + 0.1)
        off = moved.seconds_of_beat(np.arange(33)) - full.seconds_of_beat(np.arange(33))
        self.assertAlmostEqual(off[10], 0.1)
        np.testing.assert_array_equal(off[:3], 0)  # eight beats away
        np.testing.assert_array_equal(off[14:], 0)
        self.assertTrue((np.diff(off[2:11]) > 0).all() and (np.diff(off[10:15]) < 0).all())
        self.assertAlmostEqual(off[12], 0.05)  # half-way between the beat and the pin, half a cosine
        self.assertAlmostEqual(off[6], 0.05)
        self.assertEqual(moved.quarters[pins_of(moved)].tolist(), [10.0, 14.0])

    def test_a_tempo_goes_on_from_the_last_pin(self):
        full = self.pinned(4, 20)
        start = float(full.seconds[4])
        moved = reach.stretch_onward(full, 8, start + 1.02 * (float(full.seconds[8]) - start))
        beats = np.arange(33)
        expected = np.where((beats > 4) & (beats < 20), start + 1.02 * (full.seconds - start), full.seconds)
        np.testing.assert_allclose(moved.seconds_of_beat(beats), expected, atol=1e-12)
        with self.assertRaisesRegex(EditError, "A beat cannot pass the pin before it"):
            reach.stretch_onward(full, 8, start)


class Ends(TestCase):
    def test_three_beats_at_least_and_pins_stay(self):
        full = edits.set_pin(drifting(20), 5, True)
        cut = between(full, 4, 6)
        self.assertEqual(cut.quarters.tolist(), [4.0, 5.0, 6.0])
        self.assertEqual(pins_of(cut).tolist(), [False, True, False])
        with self.assertRaisesRegex(EditError, "Mapped music needs at least three beats"):
            between(full, 4, 5)
        longer = between(full, 0, 22)
        self.assertEqual(len(longer.beats()), 23)
        self.assertEqual(int(pins_of(longer).sum()), 1)

    def test_up_to_the_recording_s_start(self):
        full = TempoMap.from_beats(1.0 + 0.5 * np.arange(12))
        self.assertEqual(between(full, -2, 6).seconds[0], 0.0)
        with self.assertRaisesRegex(EditError, "before the recording starts"):
            between(full, -3, 6)

    def test_a_map_that_begins_just_before_the_recording_can_be_edited(self):
        """A loop cut on its first beat: one exact tempo may put that some milliseconds before the first sample."""
        loop = TempoMap.from_beats(-0.004 + 0.5 * np.arange(33))
        self.assertEqual(between(loop, 0, 20).seconds[0], -0.004)
        moved = reach.onward(loop, 8, 4.02)
        np.testing.assert_array_equal(moved.seconds[:8], loop.seconds[:8])
        self.assertAlmostEqual(reach.shift(loop, 0.002).seconds[0], -0.002)
        self.assertEqual(edits.move_beat(loop, 0, -0.003).seconds[0], -0.003)
        for earlier in (
            lambda: reach.shift(loop, -0.001),
            lambda: between(loop, -1, 20),
            lambda: edits.move_beat(loop, 0, -0.005),
        ):
            with self.assertRaisesRegex(EditError, "before the recording starts"):
                earlier()
