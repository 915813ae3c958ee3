"""Where the mapped music is made longer, its new beats are those that are played there."""

from unittest import TestCase

import numpy as np

from core.document import Document, MusicEnds, MusicStarts
from core.document import commands as c
from core.editing import apply
from core.tempomap import Meters, TempoMap
from core.tempomap.splice import between
from tests.core import takes
from tests.core.editing import Analysed, Silent


class OfAPlayer(TestCase):
    """A band whose tempo wanders by some percent; of its map the first and the last six bars are missing."""

    CUT = 24

    @classmethod
    def setUpClass(cls):
        bars = 24
        cls.truth = takes.tempo_map(takes.drift(4 * bars + 1, 118, 8, seed=4), Meters())
        parts = takes.groove(cls.truth, bars) | takes.bass_line(cls.truth, bars)
        cls.recording = Analysed(takes.record(cls.truth, parts).tracks)
        cls.beats = cls.truth.beats()
        cls.short = between(cls.truth, cls.CUT, int(cls.beats.index[-1]) - cls.CUT)

    def after(self, command, preview=False):
        return apply(command, Document(self.short), self.recording, preview).document

    def test_beats_before_the_first_are_detected(self):
        document = self.after(c.Starts(to=float(self.beats.seconds[0])))
        found = document.map.beats()
        self.assertEqual(len(found), len(self.beats) - self.CUT)
        self.assertLess(np.abs(found.seconds[: self.CUT] - self.beats.seconds[: self.CUT]).max(), 0.03)
        np.testing.assert_array_equal(found.seconds[self.CUT :], self.short.beats().seconds)
        np.testing.assert_array_equal(found.index[self.CUT :], self.short.beats().index)
        self.assertEqual(document.statements, (MusicStarts(float(found.seconds[0])),))

    def test_beats_behind_the_last_are_detected(self):
        document = self.after(c.Ends(to=float(self.beats.seconds[-1])))
        found, n = document.map.beats(), len(self.short.beats())
        self.assertEqual(len(found), len(self.beats) - self.CUT)
        self.assertLess(np.abs(found.seconds[n:] - self.beats.seconds[-self.CUT :]).max(), 0.03)
        np.testing.assert_array_equal(found.seconds[:n], self.short.beats().seconds)
        self.assertEqual(document.statements, (MusicEnds(float(found.seconds[-1])),))

    def test_a_preview_goes_on_at_the_tempo_so_far(self):
        at = float(self.beats.seconds[-1])
        gaps = np.diff(self.after(c.Ends(to=at), preview=True).map.beats().seconds[-self.CUT :])
        self.assertLess(np.ptp(gaps), 1e-6)
        played = np.diff(self.after(c.Ends(to=at)).map.beats().seconds[-self.CUT :])
        self.assertGreater(np.ptp(played), 0.01)

    def test_beyond_what_is_played_it_goes_on_at_its_tempo(self):
        at = float(self.beats.seconds[-1]) + 1.2  # the recording ends
        found = self.after(c.Ends(to=at)).map.beats().seconds
        self.assertLess(abs(found[-1] - at), 0.35)
        self.assertLess(np.ptp(np.diff(found)[-2:]), 0.05)

    def test_to_make_it_shorter_moves_nothing(self):
        document = self.after(c.Starts(beat=40))
        np.testing.assert_array_equal(document.map.beats().seconds, self.short.beats().seconds[40 - self.CUT :])


class OfAMachine(TestCase):
    def test_its_tempo_goes_on_to_the_digit(self):
        """Attacks stray by milliseconds around one exact tempo."""
        truth = TempoMap.from_beats(1 + 0.5 * np.arange(65), 0, Meters())
        recording = Analysed(takes.record(truth, takes.groove(truth, 16)).tracks)
        short = between(truth, 20, 44)
        for command in (c.Starts(to=1.0), c.Ends(to=33.0)):
            found = apply(command, Document(short), recording).document.map.beats().seconds
            self.assertGreater(len(found), 40)
            np.testing.assert_allclose(np.diff(found), 0.5, atol=1e-9)


class Unheard(TestCase):
    def test_an_end_that_is_dragged_to_the_recording_s_start_leaves_a_beat_just_before_it(self):
        loop = TempoMap.from_beats(-0.004 + 0.5 * np.arange(17), 0, Meters())
        short = apply(c.Starts(beat=4), Document(loop), Silent()).document
        for document in (Document(loop), short):
            found = apply(c.Starts(to=0.0), document, Silent()).document.map.beats().seconds
            self.assertLess(abs(found[0]), 0.51)
        self.assertEqual(apply(c.Starts(to=0.0), Document(loop), Silent()).document.map, loop)

    def test_a_map_of_a_recording_that_was_not_analysed_goes_on_at_its_tempo(self):
        tempo_map = TempoMap.from_beats(2 + 0.5 * np.arange(17), 0, Meters())
        found = apply(c.Ends(to=14.0), Document(tempo_map), Silent()).document.map.beats().seconds
        np.testing.assert_allclose(found, 2 + 0.5 * np.arange(25))
