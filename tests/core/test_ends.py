"""Where the music begins and ends: quiet beginnings and last hits are taken in, applause and silence are not."""

from dataclasses import replace
from types import SimpleNamespace
from unittest import TestCase

import numpy as np

from core.document.commands import Ends, Starts
from core.listening.attacks import NONE
from core.listening.spectrum import Evidence
from core.listening.track import AnalysedTrack
from core.tempomap import Meters
from core.tracking.beat_tracker import track_beats
from core.tracking.doubts.about_ends import about_ends, end_features
from core.tracking.doubts.about_take import probability
from core.tracking.doubts.map_view import MapView
from core.tracking.ends import TakeSound, widened
from core.tracking.parameters import DOUBTED_END, END_WEIGHTS
from tests.core import takes


class CutOnTheFirstBeat(TestCase):
    """Tracks are often exported from the first beat on, or a few milliseconds before it (common practice)."""

    def test_the_first_beat_is_found(self):
        truth = takes.tempo_map(takes.drift(64, 112), Meters.of((1, "4/4")))
        parts = {**takes.groove(truth, 16), **takes.bass_line(truth, 16)}
        for before in (0.004, 0.02):
            with self.subTest(before):
                start = float(truth.bar_seconds(1)) - before
                found = track_beats(takes.record_from(start, truth, parts)).map.beats()
                np.testing.assert_allclose(found.seconds[:4], truth.beats().seconds[:4] - start, atol=0.02)
                self.assertEqual((found.bar[0], found.beat[0]), (1, 1))


class Widened(TestCase):
    """Forty beats half a second apart; beats 10 to 29 are sure."""

    def setUp(self):
        self.frames = 50 * np.arange(40)
        self.energy = np.ones((2050, 3), np.float32)
        self.chroma = np.full((2050, 12), 0.1, np.float32)
        self.chroma[:, [0, 4, 7]] = 3.0
        self.curve = np.zeros(2050)
        self.curve[self.frames] = 1.0

    def sound(self):
        found = replace(Evidence.of_silence(2050), energy=self.energy, chroma=self.chroma)
        return TakeSound.of([AnalysedTrack("x", found, NONE)], len(self.curve))

    def found(self):
        inside = widened(self.frames, slice(10, 30), self.sound(), self.curve)
        return inside.start, inside.stop

    def test_music_that_goes_on_is_taken_in_up_to_two_bars(self):
        self.assertEqual(self.found(), (2, 38))

    def test_silence_ends_it(self):
        self.energy[1600:] = 0
        self.energy[:400] = 0
        self.assertEqual(self.found(), (8, 33))

    def test_applause_is_loud_but_flat(self):
        self.chroma[1500:] = 1.0
        self.assertEqual(self.found()[1], 31)

    def test_each_end_is_a_beat_that_is_struck(self):
        self.curve[self.frames[33:]] = 0
        self.curve[self.frames[:7]] = 0
        self.assertEqual(self.found(), (7, 33))

    def test_too_little_to_compare_with(self):
        self.assertEqual(widened(self.frames, slice(10, 14), self.sound(), self.curve), slice(10, 14))


class LastBeats(TestCase):
    def wrong(self, confidence, support):
        return probability(END_WEIGHTS, **end_features(np.array(confidence), np.array(support)))

    def test_they_are_doubted_where_they_are_less_sure_than_the_rest_and_nothing_marks_them(self):
        self.assertGreater(self.wrong([0.97] * 40 + [0.9, 0.6, 0.3], [0.7] * 41 + [0.2, 0.0]), 0.5)
        self.assertGreaterEqual(self.wrong([0.97] * 42 + [0.6], [0.7] * 43), DOUBTED_END)

    def test_dense_music_is_no_less_sure_at_its_end(self):
        self.assertLess(self.wrong([0.3] * 43, [0.6] * 43), DOUBTED_END)
        self.assertLess(self.wrong([0.97] * 43, [0.7] * 42 + [0.3]), DOUBTED_END)


class Outside(TestCase):
    """Forty sure beats half a second apart from 5 s on, struck at seconds of their own before and after."""

    def told(self, *struck, applause=()):
        seconds = 5 + 0.5 * np.arange(40)
        envelope = np.zeros(3000)
        envelope[np.round(100 * np.append(seconds, struck)).astype(int)] = 1.0
        activation = np.stack([0.9 * envelope, 0 * envelope], axis=1)
        for t in applause:
            envelope[round(100 * t)], activation[round(100 * t), 0] = 1.0, 0.1
        sound = SimpleNamespace(loudness=np.ones(3000))
        context = SimpleNamespace(onset_envelope=envelope, sound=sound, beat_activation=activation)
        candidate = SimpleNamespace(support=np.full(40, 0.7))
        numbers = np.arange(40)
        return about_ends(MapView(context, candidate, None, np.full(40, 0.97), seconds, 1 + numbers // 4, numbers))

    def test_what_sounds_within_the_last_beat_is_no_music_left_out(self):
        self.assertEqual(self.told(), [])
        self.assertEqual(self.told(24.75, 24.875), [])  # the last beat's upbeat; the next beat would be at 25

    def test_a_beat_more_is_told_and_so_is_a_bar(self):
        for struck in ([25.0], [25.0, 25.5, 26.0]):
            (doubt,) = self.told(*struck)
            self.assertEqual(doubt.kind, "end")
            self.assertIn("goes on", doubt.reason)
            self.assertEqual([r.command for r in doubt.remedies], [Ends(to=struck[-1])])
            self.assertGreaterEqual(doubt.end, struck[-1])

    def test_applause_is_not(self):
        applause = (25.3, 25.9, 26.8)
        self.assertEqual(self.told(applause=applause), [])
        (doubt,) = self.told(25.0, applause=applause)  # one beat more, then applause
        self.assertEqual(doubt.remedies[0].command, Ends(to=25.0))

    def test_so_is_what_sounds_more_than_a_beat_before_the_first(self):
        self.assertEqual(self.told(4.5), [])
        (doubt,) = self.told(3.0, 3.5, 4.0, 4.5)
        self.assertEqual((doubt.kind, doubt.start), ("end", 3.0))
        self.assertEqual(
            [(r.words, r.command) for r in doubt.remedies], [("take it in: about 4 beats", Starts(to=3.0))]
        )
