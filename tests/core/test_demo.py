"""The demo performances: the same on every run, and as the story tells them."""

import hashlib
from unittest import TestCase

import numpy as np

from core.demo import boathouse, others
from core.instruments import voices
from core.instruments.render import render_notes
from core.notes import Note


class Quintet(TestCase):
    def test_its_truth_is_the_story(self):
        beats = boathouse.truth().beats()
        bpm = 60 / np.diff(beats.seconds)
        playing = (beats.bar[:-1] >= 1) & (beats.bar[:-1] < boathouse.SLOW_BAR)
        self.assertTrue(bpm[playing].min() > 94 and bpm[playing].max() < 106)
        self.assertGreater(bpm[(beats.bar[:-1] > 17) & (beats.bar[:-1] < 24)].mean(), 102)
        self.assertEqual(int((beats.bar == boathouse.SHORT_BAR).sum()), 2)
        slow = bpm[beats.bar[:-1] == boathouse.SLOW_BAR]
        self.assertTrue((np.diff(slow) < 0).all())
        held = np.flatnonzero((beats.bar == boathouse.HELD_BAR) & (beats.beat == 1))[0]
        self.assertLess(bpm[held], 45)
        self.assertGreater(bpm[held + 2], 85)  # a tempo
        self.assertEqual(int(beats.bar[0]), 0)  # the count-in's bar
        self.assertTrue(100 < beats.seconds[-1] < 112)

    def test_the_drum_leaves_the_beat_and_rests_where_it_should(self):
        strokes = boathouse.drum_strokes(np.random.default_rng(0))
        start = float(boathouse.METERS.bar_quarters(boathouse.FILL_BAR))
        fill = [s.quarter - start for s in strokes if start <= s.quarter < start + 4]
        self.assertEqual([f for f in fill if f % 1 == 0], [0.0, 3.0])
        silent = boathouse.METERS.bar_quarters([boathouse.SILENT_BARS[0], boathouse.SILENT_BARS[-1] + 1])
        self.assertFalse(any(silent[0] <= s.quarter < silent[1] for s in strokes))


class Others(TestCase):
    def test_deterministic(self):
        def mark(performance):
            h = hashlib.sha256()
            for x in performance.tracks.values():
                h.update(x.tobytes())
            h.update(repr(performance.notes).encode())
            return h.hexdigest()

        self.assertEqual(mark(others.machine()), mark(others.machine()))
        self.assertEqual(mark(others.rubato()), mark(others.rubato()))

    def test_the_machine_starts_late_and_keeps_its_tempo(self):
        made = others.machine()
        thump = made.tracks["Thump"][:, 0]
        first = np.flatnonzero(np.abs(thump) > 0.05)[0] / made.rate
        self.assertAlmostEqual(first, others.MACHINE_START, delta=0.001)
        self.assertAlmostEqual(float(made.truth.bpm_at(30.0)), others.MACHINE_BPM)

    def test_the_solo_breathes(self):
        notes = others.rubato().notes
        self.assertEqual(notes, sorted(notes, key=lambda n: (n.start, n.pitch)))
        bpm = 60 / np.diff(others.rubato().truth.beats().seconds)
        self.assertGreater(np.percentile(bpm, 95) / np.percentile(bpm, 5), 1.15)


class Voices(TestCase):
    def test_a_note_sounds_at_its_pitch_from_its_sample(self):
        """Equal temperament on A4 = 440 Hz (ISO 16): pitch 57 is 220 Hz."""
        rate = 48_000
        for voice in (voices.keys, voices.dulcimer, voices.squeezebox, voices.bass):
            x = render_notes([Note(0.5, 1.5, 57, 100)], voice, rate, 2 * rate, np.random.default_rng(0))
            self.assertFalse(x[: rate // 2].any())
            self.assertTrue(x[rate // 2 : rate // 2 + 400].any())
            part = x[round(0.7 * rate) : round(1.2 * rate)] * np.hanning(rate // 2)
            spectrum = np.abs(np.fft.rfft(part, 8 * len(part)))
            hertz = np.fft.rfftfreq(8 * len(part), 1 / rate)
            near = (hertz > 200) & (hertz < 240)
            self.assertAlmostEqual(hertz[near][spectrum[near].argmax()], 220.0, delta=1.5)

    def test_every_voice_ends_in_silence_and_stays_finite(self):
        rng = np.random.default_rng(0)
        for name in ("frame_drum", "boot", "stick", "bass", "dulcimer", "squeezebox", "keys", "beep", "thump", "hiss"):
            x = getattr(voices, name)(20_000, 60, 0.4, 0.8, rng)
            self.assertTrue(np.isfinite(x).all(), name)
            self.assertLess(abs(x[-1]), 1e-3, name)
            self.assertLess(np.abs(x).max(), 4, name)
