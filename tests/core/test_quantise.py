"""Quantising and swing, against worked examples and facts of the trade."""

from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from core.notes import ScoreNote, quarter_of_note
from core.parts.quantise import quantise
from core.tempomap import Meters
from core.tempomap.note_grid import Grid

METERS = Meters.of((1, "4/4"), (3, "6/8"), (5, "2+2+3/8"), (7, "3/4"))
LOOSE = [ScoreNote(b, o, 0.4, 60, 80) for b in range(1, 9) for o in (0.03, 0.46, 1.12, 1.88, 2.31)]


def offsets(notes, **more):
    return [round(n.offset, 9) for n in quantise(notes, Meters(), **more)]


class Quantise(TestCase):
    def test_no_strength_changes_nothing(self):  # common practice
        for a, b in zip(LOOSE, quantise(LOOSE, METERS, Grid(0.25), strength=0), strict=True):
            self.assertIs(a, b)

    def test_full_strength_lands_on_the_grid(self):  # common practice
        for n in quantise(LOOSE, METERS, Grid(0.5)):
            self.assertAlmostEqual(n.offset / 0.5, round(n.offset / 0.5), places=9)

    def test_half_strength_goes_half_the_way(self):
        self.assertEqual(offsets([ScoreNote(1, 1.1, 1, 60, 80)], grid=Grid(0.5), strength=0.5), [1.05])

    def test_triplet_eighths_sit_at_thirds_of_a_beat(self):  # common practice
        found = offsets([ScoreNote(1, o, 0.2, 60, 80) for o in (0.02, 0.3, 0.7)], grid=Grid(0.5, triplet=True))
        self.assertEqual(found, [0, round(1 / 3, 9), round(2 / 3, 9)])

    def test_swing_ratios(self):
        # A swing ratio is long to short (Friberg and Sundström 2002, from memory): 1:1 is even, 2:1 the triplet,
        # 3:1 the dotted eighth with its sixteenth.
        for ratio in (1, 2, 3):
            percent = 100 * ratio / (ratio + 1)
            found = offsets(
                [ScoreNote(1, 0.55, 0.2, 60, 80), ScoreNote(1, 1.02, 0.2, 60, 80)], grid=Grid(0.5, swing=percent)
            )
            self.assertAlmostEqual(found[0] / (1 - found[0]), ratio, places=6)
            self.assertEqual(found[1], 1.0)

    def test_only_notes_inside_the_window(self):
        near, far = ScoreNote(1, 0.04, 0.2, 60, 80), ScoreNote(1, 1.2, 0.2, 60, 80)
        after = quantise([near, far], Meters(), Grid(0.5), window=0.5)
        self.assertEqual(after[0].offset, 0)
        self.assertIs(after[1], far)

    def test_the_end_of_a_bar_is_the_next_bar_s_line(self):
        after = quantise([ScoreNote(1, 3.95, 0.2, 60, 80)], Meters(), Grid(0.5))[0]
        self.assertEqual((after.bar, after.offset), (2, 0.0))

    def test_lengths_are_kept_or_pulled_as_well(self):
        note = ScoreNote(1, 0.04, 0.93, 60, 80)
        self.assertEqual(quantise([note], Meters(), Grid(0.5))[0].length, 0.93)
        self.assertEqual(quantise([note], Meters(), Grid(0.5), lengths=True)[0].length, 1.0)

    def test_what_cannot_be(self):
        for bad in (lambda: Grid(0), lambda: Grid(0.5, swing=90), lambda: quantise(LOOSE, METERS, strength=2)):
            self.assertRaises(ValueError, bad)

    @given(st.floats(0, 30), st.sampled_from([1, 0.5, 0.25]), st.booleans(), st.floats(50, 75))
    def test_never_farther_than_a_step(self, quarter, step, triplet, swing):
        grid = Grid(step, triplet, swing)
        bar = int(METERS.bars_at(quarter))
        note = ScoreNote(bar, max(0.0, quarter - float(METERS.bar_quarters(bar))), 0.5, 60, 80)
        moved = quantise([note], METERS, grid)[0]
        self.assertLessEqual(
            abs(quarter_of_note(METERS, moved) - quarter_of_note(METERS, note)), grid.step * swing / 50 + 1e-9
        )
