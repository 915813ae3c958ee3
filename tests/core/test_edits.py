"""Edits: what they change, and above all what they leave alone."""

from unittest import TestCase

import numpy as np
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from core.tempomap import Meter, Meters, TempoMap, edits
from core.tempomap.counting import rescale
from core.tempomap.edits import EditError
from tests.core.test_tempomap import maps


def even(count=24, first=0, meters=None):
    return TempoMap.from_beats(2 + 0.5 * np.arange(count), first, meters)


class Locality(TestCase):
    """An edit changes nothing outside its reach, to the last bit."""

    @given(maps(), st.data())
    @settings(deadline=None)
    def test_a_moved_beat_moves_alone(self, m, data):
        i = data.draw(st.integers(1, len(m.seconds) - 2))
        share = data.draw(st.floats(0.4, 0.6))
        to = float(m.seconds[i - 1] + share * (m.seconds[i + 1] - m.seconds[i - 1]))
        assume(min(to - m.seconds[i - 1], m.seconds[i + 1] - to) > edits.CLOSEST * 1.5)
        beat = round(float(m.meters.beat_of_quarters(m.quarters[i])))
        moved = edits.move_beat(m, beat, to)
        others = np.arange(len(m.seconds)) != i
        self.assertTrue((moved.seconds[others] == m.seconds[others]).all())
        self.assertTrue((moved.quarters == m.quarters).all())
        self.assertEqual(float(moved.seconds[i]), to)
        self.assertEqual(np.flatnonzero(moved.pins).tolist(), [i])

    @given(maps(), st.data())
    @settings(deadline=None)
    def test_an_inserted_beat_leaves_all_times_standing(self, m, data):
        i = data.draw(st.integers(1, len(m.seconds) - 2))
        to = float((m.seconds[i] + m.seconds[i + 1]) / 2)
        assume(m.seconds[i + 1] - m.seconds[i] > 0.25)
        more = edits.insert_beat(m, to)
        self.assertEqual(len(more.seconds), len(m.seconds) + 1)
        self.assertTrue(np.isin(m.seconds, more.seconds).all())
        self.assertTrue((more.quarters[: i + 1] == m.quarters[: i + 1]).all())

    @given(maps(), st.data())
    @settings(deadline=None)
    def test_remove_undoes_insert(self, m, data):
        i = data.draw(st.integers(1, len(m.seconds) - 2))
        assume(m.seconds[i + 1] - m.seconds[i] > 0.25)
        to = float((m.seconds[i] + m.seconds[i + 1]) / 2)
        beat = round(float(m.meters.beat_of_quarters(m.quarters[i + 1])))
        back = edits.remove_beat(edits.insert_beat(m, to), beat)
        np.testing.assert_array_equal(back.seconds, m.seconds)
        np.testing.assert_allclose(back.quarters, m.quarters, atol=1e-9)

    @given(maps(), st.integers(-2, 2))
    @settings(deadline=None)
    def test_the_downbeat_moves_without_moving_time(self, m, by):
        try:
            shifted = edits.shift_downbeat(m, by)
        except EditError:
            return
        np.testing.assert_array_equal(shifted.seconds, m.seconds)
        if by >= m.beats().index[0]:
            self.assertAlmostEqual(float(shifted.bar_seconds(1)), float(m.seconds_of_beat(by)), places=7)

    @given(maps())
    @settings(deadline=None)
    def test_meter_changes_move_no_beat(self, m):
        for text in ("3/4", "6/8", "5/4"):
            np.testing.assert_array_equal(edits.set_meter(m, 2, Meter.parse(text)).seconds, m.seconds)

    def test_edits_leave_their_argument_alone(self):
        m = even()
        before = m.to_json()
        edits.move_beat(m, 3, 3.6)
        rescale(m, 1, 2)
        rescale(m, 2, 1)
        self.assertEqual(m.to_json(), before)


class Counting(TestCase):
    def test_double_puts_a_beat_between_and_half_takes_it_out(self):
        m = even()
        doubled = rescale(m, 2, 1)
        np.testing.assert_allclose(doubled.beats().seconds, 2 + 0.25 * np.arange(47))
        np.testing.assert_allclose(rescale(doubled, 1, 2).beats().seconds, m.beats().seconds)
        self.assertEqual(str(doubled.meters.meter_at(1)), "4/4")

    def test_half_keeps_the_beats_on_or_after_one(self):
        m = even()
        np.testing.assert_allclose(rescale(m, 1, 2).beats().seconds, m.seconds[::2])
        np.testing.assert_allclose(rescale(m, 1, 2, offset=1).beats().seconds, m.seconds[1::2])

    def test_half_turns_what_is_left_over_into_an_odd_bar(self):
        m = even(40, meters=Meters.of((1, "4/4"), (4, "2/4"), (5, "4/4")))  # three bars, a short one, the rest
        halved = rescale(m, 1, 2)
        self.assertEqual(
            [(c.bar, str(c.meter)) for c in halved.meters.changes], [(1, "4/4"), (2, "2/4"), (3, "1/4"), (4, "4/4")]
        )
        # the bar after the odd ones still opens where it did
        self.assertAlmostEqual(float(halved.bar_seconds(4)), float(m.bar_seconds(5)))

    def test_a_bar_of_three_shifts_what_follows_by_a_beat(self):
        m = edits.set_meter(even(), 2, Meter(3), only=True)
        self.assertEqual([str(m.meters.meter_at(b)) for b in (1, 2, 3)], ["4/4", "3/4", "4/4"])
        self.assertAlmostEqual(float(m.bar_seconds(3)), 2 + 0.5 * 7)

    def test_three_four_read_as_six_eight_keeps_the_bar(self):
        m = even(25, meters=Meters.of((1, "3/4")))
        other = edits.set_meter(m, 1, Meter(6, 8))
        self.assertEqual(float(other.bar_seconds(4)), float(m.bar_seconds(4)))
        self.assertEqual(other.beats().beat.max(), 2)

    def test_four_four_read_as_twelve_eight_keeps_the_felt_beats(self):
        m = even()
        other = edits.set_meter(m, 1, Meter(12, 8))
        np.testing.assert_allclose(other.beats().seconds, m.beats().seconds)
        self.assertAlmostEqual(float(other.quarters[1]), 1.5)

    def test_a_coarse_map_is_not_bent_by_renumbering(self):
        m = TempoMap(np.array([1.0, 9.0, 14.0]), np.array([0.0, 16.0, 24.0]))
        np.testing.assert_allclose(edits.shift_downbeat(m, 1).beats().seconds, m.beats().seconds)

    def test_a_beat_before_the_map_extends_it(self):
        m = edits.move_beat(even(), -1, 1.45)
        self.assertEqual((float(m.seconds[0]), float(m.quarters[0])), (1.45, -1.0))


class Refusals(TestCase):
    def test_each_says_why(self):
        m = even()
        for words, edit in (
            ("pass the beat before", lambda: edits.move_beat(m, 3, 3.0)),
            ("pass the beat after", lambda: edits.move_beat(m, 3, 4.0)),
            ("before the recording", lambda: edits.move_beat(m, -4, -0.01)),
            ("beat here already", lambda: edits.insert_beat(m, 3.01)),
            ("inside the mapped music", lambda: edits.insert_beat(m, 1.0)),
            ("outside the mapped music", lambda: edits.remove_beat(m, 99)),
            ("Bar 1 has to start", lambda: edits.shift_downbeat(m, 40)),
        ):
            with self.assertRaisesRegex(EditError, words):
                edit()
        fast = TempoMap.from_beats(np.arange(9) * 0.15)
        with self.assertRaisesRegex(EditError, "faster than anybody counts"):
            rescale(fast, 2, 1)
