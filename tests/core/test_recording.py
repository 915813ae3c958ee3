"""Recording: the growing file, the latency of the converters, the tuner."""

import tempfile
from pathlib import Path
from unittest import TestCase
from unittest.mock import patch

import librosa
import numpy as np
import soundfile as sf
import wavinfo

from core.audio import growing
from core.audio.loopback import burst, latency
from core.listening.tuner import nearest_note, pitch


class Growing(TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "take.wav"
        self.x = np.random.default_rng(1).uniform(-1, 1, (5000, 2)).astype("<f4")
        growing.begin(self.path, 48_000, 2)

    def part(self, first, last):
        return growing.append(self.path, 2, first, self.x[first:last].tobytes())

    def test_what_was_appended_is_there_to_the_bit(self):
        self.assertEqual(self.part(0, 2000), 2000)
        np.testing.assert_array_equal(growing.so_far(self.path, 2), self.x[:2000])
        self.assertEqual(self.part(2000, 5000), 5000)
        self.assertEqual(growing.close(self.path, 48_000, 2), 5000)
        read, rate = sf.read(self.path, dtype="float32")
        self.assertEqual(rate, 48_000)
        np.testing.assert_array_equal(read, self.x)
        again = wavinfo.WavInfoReader(str(self.path))  # a second reader of the format
        self.assertEqual((again.fmt.channel_count, again.data.frame_count), (2, 5000))

    def test_what_comes_twice_is_kept_once_and_gaps_are_refused(self):
        self.part(0, 2000)
        self.assertEqual(self.part(1000, 3000), 3000)
        self.assertEqual(self.part(0, 500), 3000)
        with self.assertRaises(growing.OutOfStep) as refused:
            self.part(3001, 4000)
        self.assertEqual(refused.exception.frames, 3000)
        with self.assertRaises(ValueError):
            growing.append(self.path, 2, 3000, b"12345")
        np.testing.assert_array_equal(growing.so_far(self.path, 2), self.x[:3000])

    def test_a_broken_last_frame_is_written_over(self):
        self.part(0, 1000)
        with self.path.open("ab") as f:
            f.write(b"abc")  # what a power cut left
        self.part(1000, 1500)
        self.assertEqual(growing.close(self.path, 48_000, 2), 1500)
        np.testing.assert_array_equal(sf.read(self.path, dtype="float32")[0], self.x[:1500])

    def test_a_file_beyond_4_gb_is_rf64(self):
        self.part(0, 5000)
        with patch("core.audio.growing._LARGEST_RIFF", 20_000):
            growing.close(self.path, 48_000, 2)
        with self.path.open("rb") as f:
            self.assertEqual(f.read(4), b"RF64")
        np.testing.assert_array_equal(sf.read(self.path, dtype="float32")[0], self.x)


class Latency(TestCase):
    rate = 48_000

    def recorded(self, delay, noise=0.0, seconds=1.0, gain=0.3):
        rng = np.random.default_rng(2)
        x = rng.normal(0, noise, round(seconds * self.rate))
        sent = burst(self.rate)
        x[delay : delay + len(sent)] += gain * sent
        return x.astype(np.float32)

    def test_it_is_found_to_the_sample(self):
        for delay in (0, 1, 512, 7311, 20_000):
            self.assertEqual(latency(self.recorded(delay), self.rate).samples, delay)

    def test_noise_and_a_room_do_no_harm(self):
        self.assertEqual(latency(self.recorded(3000, noise=0.05), self.rate).samples, 3000)
        echo = self.recorded(3000) + self.recorded(3400, gain=0.2)
        self.assertEqual(latency(echo, self.rate).samples, 3000)

    def test_nothing_is_claimed_where_nothing_came_back(self):
        rng = np.random.default_rng(3)
        self.assertIsNone(latency(np.zeros(self.rate, dtype=np.float32), self.rate))
        for _ in range(20):
            self.assertIsNone(latency(rng.normal(0, 0.1, self.rate).astype(np.float32), self.rate))
        self.assertIsNone(latency(np.ones(100, dtype=np.float32), self.rate))


class Tuner(TestCase):
    def tone(self, hertz, rate=48_000, partials=6, seconds=0.2):
        t = np.arange(round(seconds * rate)) / rate
        return (0.3 * sum(np.sin(2 * np.pi * hertz * k * t + k) / k for k in range(1, partials + 1))).astype(np.float32)

    def test_it_is_within_a_cent(self):
        for rate in (44_100, 48_000, 96_000):
            for hertz in (41.2, 82.41, 110.0, 196.3, 440.0, 587.4, 1318.5):
                found = pitch(self.tone(hertz, rate), rate)
                self.assertLess(abs(1200 * np.log2(found / hertz)), 1.0, (rate, hertz))

    def test_it_agrees_with_librosa(self):
        x = self.tone(233.0, seconds=0.5)
        theirs = np.median(librosa.yin(x, fmin=60, fmax=1000, sr=48_000))
        self.assertLess(abs(1200 * np.log2(pitch(x, 48_000) / theirs)), 2)

    def test_a_missing_fundamental_is_heard(self):
        t = np.arange(9600) / 48_000
        x = sum(np.sin(2 * np.pi * 110 * k * t) for k in (2, 3, 4, 5)).astype(np.float32) / 8
        self.assertLess(abs(1200 * np.log2(pitch(x, 48_000) / 110)), 2)

    def test_silence_and_noise_have_no_pitch(self):
        self.assertIsNone(pitch(np.zeros(9600, dtype=np.float32), 48_000))
        self.assertIsNone(pitch(np.random.default_rng(1).normal(0, 0.2, 9600).astype(np.float32), 48_000))
        self.assertIsNone(pitch(np.ones(10, dtype=np.float32), 48_000))

    def test_notes_are_named_from_any_reference(self):
        self.assertEqual((nearest_note(440).name, nearest_note(440).octave), ("A", 4))
        self.assertEqual((nearest_note(261.63).name, nearest_note(261.63).octave), ("C", 4))
        self.assertEqual((nearest_note(246.94).name, nearest_note(246.94).octave), ("B", 3))
        self.assertAlmostEqual(nearest_note(440, 442).cents, -7.85, 2)  # 1200 log2(440/442)
        self.assertAlmostEqual(nearest_note(415.3, 415.3).cents, 0)
