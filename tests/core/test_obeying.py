"""A map that was found obeys what was said."""

from unittest import TestCase

import numpy as np

from core.document import BarLine, BarsHere, MeterHere, MusicEnds, MusicStarts, Right
from core.document.statements import holds
from core.editing.obeying import fixed_times, obeying
from core.tempomap import Meters
from core.tempomap.edits import EditError, pins_of
from tests.core.editing import Silent, lines, on, wandering


class Obeying(TestCase):
    def setUp(self):
        self.right = wandering(meters=Meters.of((1, "4/4"), (7, "5/4"), (8, "4/4")))
        index = self.right.meters.beat_of_quarters(self.right.quarters)
        # a search has found the beats a little beside, all bars of four, every line a beat late
        self.found = type(self.right).from_beats(self.right.seconds + 0.004, -1, Meters())
        self.assertEqual(len(index), len(self.found.seconds))

    def obey(self, *said, pins=()):
        made = obeying(Silent(), on(self.found, *said), list(pins))
        for statement in said:
            self.assertTrue(holds(statement, made), statement)
        return made

    def test_nothing_said_leaves_it_as_it_is(self):
        self.assertIs(self.obey(), self.found)

    def test_pins_are_beats_to_the_bit(self):
        pins = [float(self.right.seconds[k]) for k in (6, 20, 41)]
        made = self.obey(pins=pins)
        self.assertEqual(made.seconds[pins_of(made)].tolist(), pins)
        self.assertEqual(len(made.beats()), len(self.found.beats()))

    def test_a_pin_between_beats_keeps_its_place_between(self):
        pin = float(self.found.seconds[10:12].mean())
        made = self.obey(pins=[pin])
        self.assertEqual(made.seconds[pins_of(made)].tolist(), [pin])
        self.assertEqual(len(made.beats()), len(self.found.beats()))

    def test_lines_numbers_and_ends(self):
        at = float(self.right.bar_seconds(5))
        made = self.obey(
            BarLine(at, 5),
            BarLine(float(self.right.bar_seconds(9))),
            MusicStarts(float(self.right.seconds[1])),
            MusicEnds(float(self.right.seconds[-3])),
        )
        self.assertEqual(len(made.beats()), len(self.right.beats()) - 3)

    def test_an_odd_bar_that_was_said_stands_between_lines(self):
        made = self.obey(
            BarLine(float(self.right.bar_seconds(4)), 4), MeterHere(float(self.right.bar_seconds(7)), "5/4", True)
        )
        wanted = {round(t + 0.004, 6): bar for t, bar in lines(self.right).items() if bar > 2}
        self.assertLessEqual(set(wanted), set(lines(made)))

    def test_a_locked_stretch_comes_back_whole(self):
        lock = Right.of(self.right, float(self.right.bar_seconds(6)), float(self.right.bar_seconds(9)))
        made = self.obey(lock)
        inside = (made.seconds >= lock.start - 1e-9) & (made.seconds <= lock.end + 1e-9)
        np.testing.assert_array_equal(made.seconds[inside], lock.seconds)
        self.assertLess(set(lock.seconds), set(fixed_times(on(None, lock))) | {0.0})

    def test_bars_that_were_counted(self):
        a, b = (float(t) for t in self.right.bar_seconds([2, 6]))
        self.obey(BarsHere(a, b, 4))
        other = self.obey(BarsHere(a, b, 3))  # the engineer's count, whatever was found
        self.assertEqual(len([t for t in lines(other) if a - 0.01 <= t < b - 0.01]), 3)

    def test_what_cannot_be_is_refused_with_the_statement(self):
        a, b = (float(t) for t in self.right.bar_seconds([3, 5]))
        with self.assertRaisesRegex(EditError, "Bar 3 starts at"):
            self.obey(BarLine(a, 3), BarLine(b, 3))
