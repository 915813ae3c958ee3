"""A correction of one stretch is offered where the same mistake was made, and nowhere else."""

from unittest import TestCase

import numpy as np

from core.document import commands as c
from core.editing import apply
from core.editing.elsewhere import OFF_BEATS, correction_of, elsewhere
from core.editing.stretches import RATIOS
from core.tempomap import TempoMap
from tests.core.editing import Analysed, do, on
from tests.core.takes import record
from tests.core.test_situations import band


class Elsewhere(TestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        truth, parts = band(bpm=104, bars=30)
        cls.truth, cls.recording = truth, Analysed(record(truth, parts).tracks)

    def at(self, first_bar, last_bar):
        """The stretch from the start of one bar to that of another."""
        return float(self.truth.bar_seconds(first_bar)), float(self.truth.bar_seconds(last_bar))

    def offers(self, before, after):
        found = correction_of(self.recording.context(), before, after)
        return found, [] if found is None else elsewhere(on(after), self.recording, [found])

    def doubled(self, *stretches):
        seconds = self.truth.beats().seconds
        for a, b in stretches:
            inside = seconds[(seconds > a - 0.01) & (seconds < b + 0.01)]
            seconds = np.sort(np.concatenate([seconds, (inside[1:] + inside[:-1]) / 2]))
        return TempoMap.from_beats(seconds)

    def slid(self, *stretches):
        """Half a beat late from the first beat of a stretch to the last but one."""
        seconds = self.truth.beats().seconds.copy()
        half = np.append(np.diff(seconds), 0) / 2
        for a, b in stretches:
            inside = (seconds > a - 0.01) & (seconds < b - 0.01)
            seconds[inside] += half[inside]
        return TempoMap.from_beats(seconds)

    def test_half_the_tempo_is_offered_where_it_was_doubled_too(self):
        wrong, other = self.at(4, 9), self.at(16, 22)
        before = self.doubled(wrong, other)
        after = do(on(before), c.Ratio("1:2", stretch=wrong), recording=self.recording).map
        found, offers = self.offers(before, after)
        self.assertEqual(found.kind, "1:2")
        self.assertGreater(found.gain, 0)
        (doubt,) = offers
        self.assertEqual([r.command.ratio for r in doubt.remedies], ["1:2"])
        self.assertIn("half the tempo", doubt.reason)
        for found_end, true_end in zip((doubt.start, doubt.end), other, strict=True):
            self.assertLess(abs(found_end - true_end), 0.1)
        taken = apply(doubt.remedies[0].command, on(after), self.recording).document.map.beats().seconds
        np.testing.assert_allclose(taken, self.truth.beats().seconds, atol=0.03)

    def test_beats_are_offered_where_the_off_beats_were_taken_for_them_too(self):
        wrong, other = self.at(4, 10), self.at(17, 24)
        before = self.slid(wrong, other)
        mended = before.beats().seconds.copy()
        true = self.truth.beats().seconds
        inside = (true > wrong[0] - 0.01) & (true < wrong[1] - 0.01)
        mended[inside] = true[inside]
        after = TempoMap.from_beats(mended)
        found, offers = self.offers(before, after)
        self.assertEqual(found.kind, OFF_BEATS)
        (doubt,) = offers
        taken = apply(doubt.remedies[0].command, on(after), self.recording).document.map.beats().seconds
        right = np.abs(taken[:, None] - true[None, :]).min(axis=1) < 0.05
        was = np.abs(mended[:, None] - true[None, :]).min(axis=1) < 0.05
        self.assertLess(np.count_nonzero(~right), 0.2 * np.count_nonzero(~was))

    def test_nothing_is_offered_where_all_else_is_right(self):
        wrong = self.at(4, 9)
        for before in (self.doubled(wrong), self.slid(wrong)):
            found, offers = self.offers(before, self.truth)
            self.assertIsNotNone(found)
            self.assertEqual(offers, [])

    def test_a_moved_beat_a_new_one_and_a_change_of_tempo_are_no_such_corrections(self):
        context = self.recording.context()
        for command in (
            c.Nudge(40, 0.02),
            c.Remove(40),
            c.Insert(float(self.truth.seconds[40:42].mean()), free=True),
            c.SetTempo(40, 110, "onward"),
            c.Downbeat(1),
        ):
            after = do(on(self.truth), command, recording=self.recording).map
            self.assertIsNone(correction_of(context, self.truth, after), command)

    def test_each_ratio_is_told_from_its_neighbours(self):
        context, stretch = self.recording.context(), self.at(4, 10)  # 24 beats, which 2, 3 and 4 divide
        for ratio in RATIOS:
            after = do(on(self.truth), c.Ratio(ratio, stretch=stretch)).map
            self.assertEqual(correction_of(context, self.truth, after).kind, ratio)

    def test_stretches_with_pins_are_left_alone(self):
        wrong, other = self.at(4, 9), self.at(16, 22)
        before = self.doubled(wrong, other)
        after = do(on(before), c.Ratio("1:2", stretch=wrong), recording=self.recording).map
        times = after.beats()
        pinned = np.flatnonzero((times.seconds > other[0]) & (times.seconds < other[1]))[::6]
        document = do(on(after), *(c.Pin(int(times.index[k])) for k in pinned), recording=self.recording)
        found = correction_of(self.recording.context(), before, after)
        self.assertEqual(elsewhere(document, self.recording, [found]), [])
