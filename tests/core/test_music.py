"""Which beats are music: the likeliest run of them, and what tells music from silence and applause."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from core.listening.attacks import NONE
from core.listening.spectrum import Evidence
from core.listening.track import AnalysedTrack
from core.tempomap import Meters
from core.tracking.beat_tracker import TrackingOptions, track_beats
from core.tracking.ends import TakeSound, reaching
from core.tracking.music import certainly_none, likeliest_music, music_beats
from core.tracking.parameters import CLOSE_TO_MUSIC
from tests.core.takes import RATE, bass_line, chords, drift, groove, record, record_after, tempo_map


class LikeliestRun(TestCase):
    def test_the_worked_example(self):
        """Bentley, "Programming Pearls" (1986), column 8, from memory: 59 to 97 have the largest sum, 187."""
        values = np.array([31, -41, 59, 26, -53, 58, 97, -93, -23, 84.0])
        run = likeliest_music(values)
        self.assertEqual((run, values[run].sum()), (slice(2, 7), 187))

    def test_no_other_run_has_a_larger_sum(self):
        rng = np.random.default_rng(1)
        for n in [1, 2, 3] * 20 + [12] * 60:
            values = rng.normal(rng.uniform(-1, 1), 1, n)
            largest = max(values[a:b].sum() for a in range(n) for b in range(a + 1, n + 1))
            self.assertAlmostEqual(values[likeliest_music(values)].sum(), largest)


class Music(TestCase):
    """Sixty beats half a second apart, all loud, tonal, struck, and beats as the activation says."""

    def setUp(self):
        self.frames = 50 * np.arange(60)
        self.energy = np.ones((3050, 3), np.float32)
        self.chroma = np.full((3050, 12), 0.1, np.float32)
        self.chroma[:, [0, 4, 7]] = 3.0
        self.onsets = np.zeros(3050)
        self.onsets[self.frames] = 1.0
        self.activation = 0.8 * self.onsets

    def found(self):
        track = replace(Evidence.of_silence(3050), energy=self.energy, chroma=self.chroma)
        sound = TakeSound.of([AnalysedTrack("x", track, NONE)], 3050)
        beats = music_beats(self.frames, self.activation, self.onsets, sound)
        return int(beats[0]) // 50, int(beats[-1]) // 50

    def test_all_of_it(self):
        self.assertEqual(self.found(), (0, 59))

    def test_silence_is_none(self):
        for what in (self.energy, self.onsets, self.activation):
            what[:500] = 0
        first, last = self.found()
        self.assertAlmostEqual(first, 10, delta=2)
        self.assertEqual(last, 59)

    def test_applause_is_none(self):
        """Loud, flat, without beats."""
        self.chroma[2250:] = 1.0
        self.activation[2250:] = 0.05
        self.onsets[2250:] = 0.1
        first, last = self.found()
        self.assertEqual(first, 0)
        self.assertAlmostEqual(last, 44, delta=4)

    def test_a_soft_passage_with_a_clear_beat_is_music(self):
        self.energy[:1000] *= 0.6
        self.onsets[:1000] *= 0.5
        self.activation[:1000] *= 0.75
        self.assertEqual(self.found(), (0, 59))

    def left_out(self):
        track = replace(Evidence.of_silence(3050), energy=self.energy, chroma=self.chroma)
        sound = TakeSound.of([AnalysedTrack("x", track, NONE)], 3050)
        return certainly_none(self.frames, self.activation, self.onsets, sound)

    def test_talk_and_applause_are_left_out_of_the_search(self):
        self.energy[:1000] *= 0.1
        self.activation[:1000] = 0.2
        self.chroma[2250:] = 1.0
        self.activation[2250:] = 0.05
        before, after = self.left_out()
        self.assertAlmostEqual(before, 20 - CLOSE_TO_MUSIC, delta=2)
        self.assertAlmostEqual(after, 15 - CLOSE_TO_MUSIC, delta=3)

    def test_nothing_else_is(self):
        self.assertEqual(self.left_out(), (0, 0))
        self.activation[:50] = 0.05  # one beat that may be none
        self.energy[:50] *= 0.2
        self.assertEqual(self.left_out(), (0, 0))


class Surrounded(TestCase):
    """A groove of 16 bars, 35 seconds long, with 25 of talk before it and 25 of applause after it."""

    @classmethod
    def setUpClass(cls):
        cls.truth = tempo_map(drift(64, 110), Meters.of((1, "4/4")))
        parts = chords(cls.truth, 16) | groove(cls.truth, 16) | bass_line(cls.truth, 16)
        cls.tracks = record_after(0.1 * talk(25.0), cls.truth, parts, 0.1 * applause(25.0))
        cls.found = track_beats(cls.tracks).map

    def test_beats_are_counted_in_the_music_alone(self):
        seconds, true = self.found.beats().seconds, self.truth.beats().seconds + 25.0
        self.assertGreater(seconds[0], true[0] - 1.0)
        self.assertLess(seconds[-1], true[-1] + 1.0)
        self.assertLess(np.abs(true[:, None] - seconds).min(axis=1).max(), 0.05)

    def test_bar_1_is_the_music_s_first(self):
        self.assertAlmostEqual(float(self.found.bar_seconds(1)), float(self.truth.bar_seconds(1)) + 25.0, delta=0.03)

    def test_an_end_that_the_engineer_gave_stays(self):
        found = track_beats(self.tracks, TrackingOptions(start=33.0)).map.beats().seconds
        self.assertGreater(found[0], 32.9)


def talk(seconds):
    """Syllables of a deep voice: buzzes of uneven length, some close together, some after a pause."""
    rng, out = np.random.default_rng(7), np.zeros(round(seconds * RATE))
    at = 0.2
    while at < seconds - 0.4:
        t = np.arange(round(rng.uniform(0.08, 0.3) * RATE)) / RATE
        buzz = sum(np.sin(2 * np.pi * rng.uniform(90, 140) * k * t) / k for k in range(1, 20))
        first = round(at * RATE)
        out[first : first + len(t)] += 0.03 * buzz * np.hanning(len(t))
        at += len(t) / RATE + (rng.uniform(0.0, 0.1) if rng.random() < 0.8 else rng.uniform(0.3, 1.0))
    return out


def applause(seconds):
    rng, out = np.random.default_rng(8), np.zeros(round(seconds * RATE))
    for at in rng.integers(0, len(out) - 500, round(60 * seconds)):
        out[at : at + 400] += rng.uniform(0.1, 1) * rng.standard_normal(400) * np.exp(-np.arange(400) / 60) * 0.3
    return out


class Reaching(TestCase):
    def test_a_few_beats_more_are_none_of_its_business(self):
        found = np.arange(100, 200, 10)
        self.assertEqual(reaching(found, np.arange(60, 240, 10)).tolist(), found.tolist())

    def test_more_of_them_are_taken_in_on_either_side(self):
        found = np.arange(100, 200, 10)
        self.assertEqual(reaching(found, np.arange(50, 200, 10)).tolist(), list(range(50, 200, 10)))
        self.assertEqual(reaching(found, np.arange(100, 250, 10)).tolist(), list(range(100, 250, 10)))

    def test_music_that_ends_earlier_takes_nothing_away(self):
        found = np.arange(100, 200, 10)
        self.assertEqual(reaching(found, np.arange(120, 160, 10)).tolist(), found.tolist())


class WhatTheEngineerSays(TestCase):
    """Music goes on all the time, for 35 seconds."""

    @classmethod
    def setUpClass(cls):
        truth = tempo_map(drift(64, 110), Meters.of((1, "4/4")))
        cls.tracks = record(truth, groove(truth, 16)).tracks

    def found(self, **options):
        return track_beats(self.tracks, TrackingOptions(**options)).map.beats().seconds

    def test_no_beats_are_found_where_there_are_none(self):
        found = self.found(no_beats=[(24.0, 60.0)])
        self.assertGreater(len(found), 30)
        self.assertLess(found[-1], 24.0)

    def test_nor_before_the_start_and_after_the_end(self):
        found = self.found(start=8.0, end=24.0)
        self.assertGreater(len(found), 20)
        self.assertGreater(found[0], 7.9)
        self.assertLess(found[-1], 24.1)
