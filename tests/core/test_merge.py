"""Some bars of one map in another."""

from unittest import TestCase

import numpy as np

from core.tempomap import Meters, TempoMap
from core.tempomap.edits import EditError
from core.tempomap.merge import with_bars_of

OURS = TempoMap.from_beats(1 + 0.5 * np.arange(65))
THEIRS = TempoMap.from_beats(
    1 + 0.5 * np.arange(65) + 0.03 * np.sin(np.arange(65)), 0, Meters.of((1, "4/4"), (5, "3/4"))
)


class Merged(TestCase):
    def test_its_beats_lines_and_meters_stand_in_place_of_ours(self):
        found = with_bars_of(OURS, THEIRS, 5, 8)
        start, end = THEIRS.bar_seconds([5, 9])
        beats, theirs = found.beats(), THEIRS.beats()
        inside = (beats.seconds >= start - 1e-9) & (beats.seconds <= end + 1e-9)
        wanted = (theirs.seconds >= start - 1e-9) & (theirs.seconds <= end + 1e-9)
        np.testing.assert_allclose(beats.seconds[inside], theirs.seconds[wanted])
        ours = OURS.beats().seconds
        kept = np.concatenate([ours[ours < start - 0.2], ours[ours > end + 0.2]])
        np.testing.assert_array_equal(beats.seconds[~inside], kept)
        np.testing.assert_allclose(found.bar_seconds(range(5, 10)), THEIRS.bar_seconds(range(5, 10)))
        self.assertEqual([str(found.meters.meter_at(b)) for b in (4, 5, 8)], ["4/4", "3/4", "3/4"])

    def test_our_bar_lines_outside_stay_on_their_beats(self):
        found = with_bars_of(OURS, THEIRS, 5, 8)
        lines = found.bar_seconds(range(1, 15))
        for line in OURS.bar_seconds([1, 2, 3, 4, 9, 10, 11, 12]):
            self.assertLess(np.abs(lines - line).min(), 1e-9)

    def test_pins_outside_hold(self):
        pins = np.zeros(65, dtype=bool)
        pins[[2, 50]] = True
        found = with_bars_of(OURS.with_points(OURS.seconds, OURS.quarters, pins), THEIRS, 5, 8)
        self.assertEqual(found.seconds[found.pins].tolist(), OURS.seconds[[2, 50]].tolist())

    def test_all_of_it_is_theirs(self):
        found = with_bars_of(OURS, THEIRS, 1, 12)
        np.testing.assert_allclose(found.bar_seconds(range(1, 13)), THEIRS.bar_seconds(range(1, 13)))

    def test_bars_that_there_are_not(self):
        for first, last in ((0, 3), (5, 4), (1, 99)):
            with self.assertRaisesRegex(EditError, "bars 1 to"):
                with_bars_of(OURS, THEIRS, first, last)
