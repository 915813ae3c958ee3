"""Commands at their edges: each test notices a change of the program that no other did (see docs/measured.md)."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from core.document import Document
from core.document.commands import Approve, AreBars, Downbeat, PlaceAt, Ratio, Rough, ToAttack
from core.document.statements import BarLine, Right
from core.editing import apply
from core.tempomap import Meters, TempoMap
from core.tempomap.edits import pins_of
from core.tempomap.errors import EditError
from tests.core.editing import Silent, Struck, do, lines, on, wandering


def even(count=33, first=0, meters=None):
    return TempoMap.from_beats(2 + 0.5 * np.arange(count), first, meters)


class Commands(TestCase):
    def test_half_the_tempo_keeps_the_beats_on_which_most_that_was_said_falls(self):
        in_three = even(meters=Meters.of((1, "3/4")))
        for beat in (3, 6):
            line = 2 + 0.5 * beat
            seconds = do(on(in_three, BarLine(line)), Ratio("1:2"), overrule=True).map.beats().seconds
            self.assertAlmostEqual(float(np.min(np.abs(seconds - line))), 0, places=6)
            np.testing.assert_allclose(np.diff(seconds), 1.0)

    def test_half_the_tempo_of_a_stretch_keeps_its_first_beat_and_cannot_keep_the_ones_between(self):
        before = Document(even())
        halved = do(before, Ratio("1:2", stretch=(6.0, 10.0))).map.beats().seconds
        np.testing.assert_allclose(halved[(halved > 5.9) & (halved < 10.1)], [6, 7, 8, 9, 10])
        with self.assertRaisesRegex(EditError, "begin and end it a beat later"):
            do(before, Ratio("1:2", others=True, stretch=(6.0, 10.0)))

    def test_bar_lines_go_to_a_beat_the_shorter_way(self):
        """A map that begins with bar 1: lines move on where that is nearer, else back by the rest of the bar."""
        for beat, opens in ((5, {2.5, 4.5}), (7, {3.5, 5.5})):
            moved = lines(do(Document(even(17)), Downbeat(beat)).map)
            self.assertIn(round(2 + 0.5 * beat, 6), moved)
            self.assertTrue(opens & set(moved), moved)

    def test_an_attack_is_named_a_bar_and_beat_where_nothing_was_said(self):
        for beat in (1, 3):
            placed = do(Document(even()), PlaceAt(12.0, 5, beat), recording=Struck([12.01])).map
            at = placed.beats()
            k = int(np.argmin(np.abs(at.seconds - 12.01)))
            self.assertEqual((int(at.bar[k]), int(at.beat[k])), (5, beat))
            self.assertAlmostEqual(float(at.seconds[k]), 12.01, places=6)

    def test_bar_one_cannot_lie_behind_the_music(self):
        with self.assertRaisesRegex(EditError, "inside the mapped music"):
            do(Document(even(9)), PlaceAt(2.0, -40))

    def test_a_rough_start_lasts_as_long_as_the_recording(self):
        for meter, quarters in (("4/4", 4), ("3/4", 3)):
            made = do(Document(None), Rough(at=10.0, bpm=90.0, meter=meter)).map
            bars = made.bar_range[1]
            self.assertEqual(bars, int((Silent.seconds - 10.0) * 90 / 60 / quarters))

    def test_the_next_attack_and_the_one_before(self):
        recording = Struck([2.9, 2.95, 2.998, 3.05, 3.1])
        for by, to in ((1, 3.05), (-1, 2.95)):
            moved = do(Document(even()), ToAttack(2, by), recording=recording).map
            self.assertAlmostEqual(float(moved.seconds_of_beat(2)), to, places=6)

    def test_what_is_approved_between_two_beats_is_the_nearer_one(self):
        approved = do(Document(even()), Approve((3.05, 3.1))).map
        np.testing.assert_allclose(approved.seconds[pins_of(approved)], [3.0])
        approved = do(Document(even()), Approve((3.3, 3.45))).map
        np.testing.assert_allclose(approved.seconds[pins_of(approved)], [3.5])

    def test_two_things_said_that_break_are_both_named(self):
        document = on(even(), BarLine(4.0), BarLine(6.0), Right.of(even(), 8.0, 9.0))
        with self.assertRaisesRegex(EditError, ";"):
            apply(Downbeat(5), document, Silent())


class Maps(TestCase):
    def test_the_tempo_before_the_first_point(self):
        led = replace(even(), lead_bpm=90.0)
        self.assertAlmostEqual(float(led.quarters_at(2.0) - led.quarters_at(1.0)), 1.5)

    def test_bars_of_a_new_stretch_leave_the_lines_behind_it(self):
        meters = Meters.of((1, "4/4"), (4, "3/4"))
        before = wandering(50, meters)
        said = lines(before)
        ends = sorted(said)
        after = do(Document(before), AreBars((ends[1], ends[3]), 3)).map
        kept = lines(after)
        self.assertEqual(sorted(kept)[:2], ends[:2])
        self.assertEqual(len(kept), len(said) + 1)
        for second in ends[3:]:
            self.assertIn(second, kept)
