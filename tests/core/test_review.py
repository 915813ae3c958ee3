"""Looking at a map again: mistakes of the whole map show as one doubt with one remedy, in uneven meters too."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from core.document.commands import ShiftByBeats
from core.tempomap import Meters, reach
from core.tempomap.counting import rescale
from core.tempomap.pulses import pulsed
from core.tracking.context import build_context
from core.tracking.redetect import move_and_redetect, redetect
from core.tracking.review import review
from tests.core import takes
from tests.core.test_situations import band


class OfAWholeMap(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.truth, parts = band(bars=14)
        cls.scene = build_context(takes.record(cls.truth, parts).tracks)

    def kinds(self, tempo_map, **more):
        return [d.kind for d in review(self.scene, tempo_map, **more)[1]]

    def test_the_right_map_raises_none_of_them(self):
        sure, _ = review(self.scene, self.truth)
        self.assertGreater(float(np.median(sure)), 0.85)
        self.assertFalse({"late", "phase"} & set(self.kinds(self.truth)))

    def test_late_and_early(self):
        for by, word in ((0.03, "late"), (-0.03, "early")):
            found = review(self.scene, reach.shift(self.truth, by))[1][0]
            self.assertEqual((found.kind, found.remedies[0].command.kind), ("late", "shift"))
            self.assertIn(word, found.reason)
            self.assertAlmostEqual(found.remedies[0].command.by, -by, delta=0.008)

    def test_half_a_beat_off_offers_the_way_back_first(self):
        for share in (0.5, -0.5):
            found = next(d for d in review(self.scene, reach.shift_by_beats(self.truth, share))[1] if d.kind == "phase")
            self.assertEqual(found.remedies[0].command, ShiftByBeats(-share))

    def test_a_count_that_nobody_marks_is_doubted_as_a_whole(self):
        quarter = reach.shift_by_beats(self.truth, 0.25)
        found = [d for d in review(self.scene, quarter)[1] if d.kind == "phase"]
        self.assertEqual(len(found), 1)
        self.assertLess(found[0].start, quarter.beats().seconds[0])
        self.assertGreater(found[0].end, quarter.beats().seconds[-1])
        # one of the ways back is offered
        self.assertIn(-0.25, [r.command.share for r in found[0].remedies])

    def test_half_and_double(self):
        self.assertIn("level", self.kinds(rescale(self.truth, 2, 1)))
        self.assertIn("level", self.kinds(rescale(self.truth, 1, 2)))

    def test_tempos_that_a_search_found_are_named_and_none_that_nobody_would_count(self):
        fast = rescale(self.truth, 3, 2)
        bpm = fast.median_bpm
        frames = np.round(self.truth.beats().seconds * 100).astype(np.int64)
        for chains, named, remedies in (
            ((), f"{bpm / 2:.0f} beats a minute may be meant", ["half the tempo"]),
            ([frames], f"{bpm / 1.5:.0f} or {bpm / 2:.0f}", ["2:3 of the tempo", "half the tempo"]),
        ):
            (doubt,) = [d for d in review(self.scene, fast, chains=chains)[1] if d.kind == "level"]
            self.assertIn(f"not sure: {named}", doubt.reason)
            self.assertEqual([r.words for r in doubt.remedies], remedies)

    def test_what_a_search_found_is_compared_as_far_as_there_is_a_recording_still(self):
        frames, length = np.round(self.truth.beats().seconds * 100).astype(np.int64), len(self.scene.onset_envelope)
        longer = np.append(frames, length + 50 * np.arange(100))
        gone = length + 50 * np.arange(40)
        for tempo_map in (self.truth, rescale(self.truth, 2, 1)):
            sure, told = review(self.scene, tempo_map, chains=[longer, gone])
            as_ever, same = review(self.scene, tempo_map, chains=[frames])
            np.testing.assert_array_equal(sure, as_ever)
            self.assertEqual(told, same)

    def test_beats_that_are_placed_elsewhere_change_nothing_about_the_tempo(self):
        fast = rescale(self.truth, 3, 2)
        chains = [np.round(m.beats().seconds * 100).astype(np.int64) for m in (fast, self.truth)]
        uneven = fast.with_points(fast.seconds + 0.03 * (np.arange(len(fast.seconds)) % 2), fast.quarters)
        told, of_moved = (
            [d.reason.split(",")[0] for d in review(self.scene, m, chains=chains)[1] if d.kind == "level"]
            for m in (fast, uneven)
        )
        self.assertEqual(told, of_moved)
        self.assertTrue(told)

    def test_a_beat_moved_far_is_found_again_on_both_sides_only(self):
        beats = self.truth.beats()
        wrong = reach.onward(self.truth, 20, float(beats.seconds[20]) + 0.2)
        right = move_and_redetect(self.scene, wrong, 20, float(beats.seconds[20]))
        np.testing.assert_array_equal(right.beats(0, 8).seconds, wrong.beats(0, 8).seconds)
        np.testing.assert_array_equal(right.beats(32, 50).seconds, wrong.beats(32, 50).seconds)
        self.assertLess(np.abs(right.beats(9, 19).seconds - beats.seconds[9:20]).max(), 0.02)


class OfUnequalBeats(TestCase):
    @classmethod
    def setUpClass(cls):
        bars = 16
        even = takes.tempo_map(takes.drift(7 * bars + 1, 270, 3), Meters.of((1, "1+1+1+1+1+1+1/8")))
        cls.truth = replace(even, meters=Meters.of((1, "2+2+3/8")))
        parts = takes.groove(cls.truth, bars) | takes.bass_line(cls.truth, bars)
        cls.scene = build_context(takes.record(cls.truth, parts).tracks)

    def test_unequal_beats_are_no_jumps_of_the_tempo(self):
        sure, found = review(self.scene, self.truth)
        self.assertEqual(len(sure), len(self.truth.beats()))
        self.assertNotIn("jump", [d.kind for d in found])
        last = int(self.truth.beats().index[-1])
        for doubt in found:
            self.assertLessEqual(doubt.beat, last)
            for remedy in doubt.remedies:
                self.assertIn(remedy.command.kind, ("redetect", "move", "remove", "insert", "shift"))
                self.assertLessEqual(
                    max(getattr(remedy.command, "beat", 0), getattr(remedy.command, "to", 0)), max(last, 100)
                )

    def test_a_spoiled_stretch_is_solved_on_its_pulse(self):
        times = self.truth.seconds.copy()
        times[43:48] += np.array([0.02, 0.05, 0.07, 0.05, 0.02])
        spoiled = self.truth.with_points(times, self.truth.quarters)
        again = redetect(self.scene, spoiled, 15, 24)
        self.assertEqual(again.meters, self.truth.meters)
        self.assertLess(np.abs(again.beats(16, 23).seconds - self.truth.beats(16, 23).seconds).max(), 0.025)
        same = [*range(16), *range(24, 40)]
        np.testing.assert_array_equal(again.beats().seconds[same], spoiled.beats().seconds[same])
        self.assertEqual(len(pulsed(again).beats()), len(pulsed(self.truth).beats()))
