"""Bounds of maps, grids and meters, and of what thins or smooths a map. Found by a
mutation tester (docs/measured.md): each test fails on a change that all others let through."""

from itertools import combinations
from unittest import TestCase

import numpy as np

from core.tempomap import Meters, TempoMap, edits, grain
from core.tempomap.edits import pins_of
from core.tempomap.meter import Meter, MeterChange
from core.tempomap.note_grid import Grid, grid_seconds
from core.tempomap.position import position_at
from tests.core.test_edges_of_edits import drifting


class PlainData(TestCase):
    def test_pins_and_the_tempos_beyond_the_ends_come_back(self):
        made = TempoMap([1.0, 2.0, 3.1], [0.0, 2.0, 4.0], Meters.of((1, "3/4")), [True, False, True], 100.0, 90.0)
        back = TempoMap.from_json(made.to_json())
        np.testing.assert_array_equal(pins_of(back), [True, False, True])
        self.assertEqual((back.lead_bpm, back.tail_bpm), (100.0, 90.0))
        self.assertEqual(back.meters, made.meters)
        np.testing.assert_array_equal(back.seconds, made.seconds)

    def test_the_tempo_at_a_point_is_that_of_what_follows(self):
        made = TempoMap([1.0, 2.0, 4.0], [0.0, 2.0, 4.0])
        self.assertEqual(made.bpm_at(2.0), 60.0)
        np.testing.assert_allclose(made.bpm_at([1, 1.5, 3]), [120, 120, 60])


class Grids(TestCase):
    def test_their_bounds(self):
        for good in (1 / 32, 8):
            self.assertEqual(Grid(good).note, good)
        for swing in (50, 80):
            self.assertEqual(Grid(swing=swing).swing, swing)
        for bad in (1 / 33, 8.01):
            with self.assertRaisesRegex(ValueError, "between a 128th and two whole notes"):
                Grid(bad)
        for bad in (49.9, 80.1):
            with self.assertRaisesRegex(ValueError, "Swing lies between 50"):
                Grid(swing=bad)

    def test_a_line_stands_once(self):
        np.testing.assert_allclose(Grid(1.0).places(4.0), [0, 1, 2, 3, 4])
        np.testing.assert_allclose(Grid(1.0).places(3.5), [0, 1, 2, 3, 3.5])
        np.testing.assert_allclose(Grid(0.5, triplet=True).places(1.0), [0, 1 / 3, 2 / 3, 1])
        np.testing.assert_allclose(Grid(0.5, swing=60).places(1.0), [0, 0.6, 1])
        steady = TempoMap.steady(120, bars=4)
        np.testing.assert_allclose(grid_seconds(steady, Grid(1.0), 0.0, 2.0), [0, 0.5, 1.0, 1.5, 2.0])


class Positions(TestCase):
    def test_bars_beats_and_ticks(self):
        steady = TempoMap.steady(120, Meters.of((1, "6/8")), bars=8)
        self.assertEqual(str(position_at(steady, 0.0)), "1.1.000")
        self.assertEqual(str(position_at(steady, 0.75)), "1.2.000")
        self.assertEqual(str(position_at(steady, 0.25)), "1.1.480")
        self.assertEqual(str(position_at(steady, 1.5)), "2.1.000")


class FewestPoints(TestCase):
    def test_as_few_as_any_choice_and_of_those_the_closest(self):
        """Against every choice of points there is, on short maps."""
        rng = np.random.default_rng(8)
        for _ in range(25):
            n = int(rng.integers(4, 9))
            q = np.arange(n, dtype=float)
            t = np.cumsum(0.5 + rng.normal(0, 0.02, n))
            within = float(rng.choice([0.004, 0.01, 0.03]))

            def off(points, q=q, t=t):
                return float(np.abs(np.interp(q, q[list(points)], t[list(points)]) - t).max())

            choices = [
                (len(inner), off((0, *inner, n - 1)))
                for size in range(n - 1)
                for inner in combinations(range(1, n - 1), size)
            ]
            fewest, best = min(c for c in choices if c[1] <= within + 1e-12)
            kept = grain.thin(TempoMap(t, q), within)
            self.assertEqual(len(kept.seconds) - 2, fewest)
            self.assertAlmostEqual(grain.farthest(TempoMap(t, q), kept), best, 9)

    def test_two_points_beside_each_other_stay(self):
        full = edits.set_pin(edits.set_pin(drifting(12), 5, True), 6, True)
        kept = grain.thin(full, 1.0)
        self.assertEqual(len(kept.seconds), 4)
        self.assertEqual(int(pins_of(kept).sum()), 2)


class Smoothed(TestCase):
    def test_each_gap_is_the_mean_of_its_neighbours(self):
        """Written out: over four beats, two on either side; the ends as if the music went on evenly; scaled so that
        what stays fixed stays."""
        full = edits.set_pin(drifting(20), 12, True)
        made = grain.smooth(full)
        for a, b in ((0, 12), (12, 19)):
            paces = np.diff(full.seconds[a : b + 1])
            around = [[paces[min(max(k + d, 0), len(paces) - 1)] for d in (-2, -1, 0, 1, 2)] for k in range(len(paces))]
            gaps = np.mean(around, axis=1)
            gaps *= (full.seconds[b] - full.seconds[a]) / gaps.sum()
            np.testing.assert_allclose(np.diff(made.seconds[a : b + 1]), gaps, atol=1e-12)
        np.testing.assert_array_equal(pins_of(made), pins_of(full))
        np.testing.assert_array_equal(made.seconds[[0, 12, 19]], full.seconds[[0, 12, 19]])

    def test_uneven_beats_keep_their_shares(self):
        full = drifting(12, meters=Meters((MeterChange(1, Meter(7, 8, (2, 2, 3))),)))
        made = grain.smooth(full)
        paces = np.diff(made.seconds) / np.diff(made.quarters)
        before = np.diff(full.seconds) / np.diff(full.quarters)
        self.assertLess(np.ptp(paces), 0.6 * np.ptp(before))

    def test_three_beats_between_what_stays_are_smoothed_and_two_are_not(self):
        for last, moves in ((3, True), (2, False)):
            full = edits.set_pin(drifting(12), last, True)
            made = grain.smooth(full, 0, last)
            self.assertEqual(bool((made.seconds != full.seconds).any()), moves)

    def test_points_on_every_line_or_every_other(self):
        full = drifting(33)
        self.assertEqual(grain.every(full, 1).quarters.tolist(), [0, 4, 8, 12, 16, 20, 24, 28, 32])
        self.assertEqual(grain.every(full, 2).quarters.tolist(), [0, 8, 16, 24, 32])
        inside = grain.every(full, 2, 6, 18)
        expected = [*range(7), 8, 16, *range(18, 33)]
        self.assertEqual(inside.quarters.tolist(), [float(k) for k in expected])
        self.assertEqual(len(grain.every(grain.every(full, 4), 0).seconds), 33)


class MetersWritten(TestCase):
    def test_from_a_bar_on_or_that_bar_only(self):
        base = Meters.of((1, "4/4"), (5, "3/4"))
        five = Meter.parse("5/4")

        def read(meters):
            return [str(meters.meter_at(b)) for b in range(8)]

        self.assertEqual(read(base.with_meter(3, five)), ["4/4"] * 3 + ["5/4"] * 2 + ["3/4"] * 3)
        self.assertEqual(read(base.with_meter(3, five, only=True)), ["4/4"] * 3 + ["5/4", "4/4"] + ["3/4"] * 3)
        self.assertEqual(read(base.with_meter(4, five, only=True)), ["4/4"] * 4 + ["5/4"] + ["3/4"] * 3)
        for bar in (1, 0, -3):
            self.assertEqual(read(base.with_meter(bar, five)), ["5/4"] * 5 + ["3/4"] * 3)
            self.assertEqual(read(base.with_meter(bar, five, only=True)), ["5/4"] * 2 + ["4/4"] * 3 + ["3/4"] * 3)

    def test_pins_stay(self):
        pinned = edits.set_pin(drifting(17), 5, True)
        made = edits.set_meter(pinned, 1, Meter.parse("3/4"))
        self.assertEqual(made.seconds[pins_of(made)].tolist(), pinned.seconds[pins_of(pinned)].tolist())
