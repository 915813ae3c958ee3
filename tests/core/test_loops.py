"""Loops: cut with their facts in open chunks, stretched under a map; sections as whole bars."""

import io
import struct
from unittest import TestCase

import numpy as np
import soundfile as sf
from scipy.io import wavfile

from core.following.running_order import whole_bars
from core.formats import wavloop
from core.notes import to_seconds
from core.parts import loops
from core.reshaping.stretch import time_stretched
from core.tempomap import Meters, TempoMap

RATE = 48_000


def hits(times, seconds, tone=0.0):
    """Short bursts of noise that start exactly on their samples, over a soft tone."""
    t = np.arange(round(seconds * RATE)) / RATE
    x = tone * np.sin(2 * np.pi * 330 * t)
    burst = np.random.default_rng(1).standard_normal(400) * np.exp(-np.arange(400) / 80)
    burst[0] = 1.0
    for at in times:
        k = round(at * RATE)
        part = burst[: len(x) - k]
        x[k : k + len(part)] += 0.8 * part
    return x[:, None].astype(np.float32)


def starts(x):
    """Samples at which something loud begins after 30 ms without."""
    loud = np.flatnonzero(np.abs(x[:, 0]) > 0.45)
    return loud[np.concatenate([[True], np.diff(loud) > 0.03 * RATE])]


class Chunks(TestCase):
    def setUp(self):
        self.samples = (0.5 * np.random.default_rng(2).uniform(-1, 1, (RATE, 2))).astype(np.float32)
        self.facts = wavloop.LoopFacts(2, 8, "4/4", 118.5, [(0, "Bar 5"), (24_321, "Bar 6")])
        self.data = wavloop.write(self.samples, RATE, self.facts, "Take")

    def test_there_and_back(self):
        read = wavloop.read(self.data)
        self.assertEqual(read.loop, (0, RATE - 1))
        self.assertEqual(read.lines, [(0, "Bar 5"), (24_321, "Bar 6")])
        self.assertEqual(read.words, "2 bars, 8 beats in 4/4, 118.500 bpm")

    def test_two_other_libraries_read_the_sound(self):
        x, rate = sf.read(io.BytesIO(self.data), dtype="float32")
        self.assertEqual(rate, RATE)
        np.testing.assert_allclose(x, self.samples, atol=2**-23)
        rate, y = wavfile.read(io.BytesIO(self.data))
        self.assertEqual((rate, len(y)), (RATE, RATE))

    def test_the_sampler_chunk_as_published(self):
        # Microsoft, "New Multimedia Data Types and Data Techniques" (1994): nine header fields of four bytes, of which
        # the eighth counts the loops, then 24 bytes a loop
        at = self.data.index(b"smpl")
        size, *fields = struct.unpack_from("<I9I", self.data, at + 4)
        self.assertEqual(size, 36 + 24)
        self.assertEqual(fields[2], round(1e9 / RATE))  # sample period in nanoseconds
        self.assertEqual(fields[3], 60)
        self.assertEqual(fields[7], 1)
        self.assertEqual(struct.unpack_from("<I", self.data, 4)[0], len(self.data) - 8)

    def test_what_is_no_wav(self):
        with self.assertRaises(ValueError):
            wavloop.read(b"dear engineer, ")


class Stretching(TestCase):
    def test_attacks_stand_where_the_path_puts_them_to_the_sample(self):
        at = np.arange(0.25, 4, 0.5)
        for factor in (0.8, 0.93, 1.0, 1.1, 1.25):
            outs, ins = np.array([0, 1.9 * factor, 4 * factor**1.2]), np.array([0, 2.0, 4.0])
            y = time_stretched(hits(at, 4, 0.05), RATE, outs, ins, at)
            meant = np.round(np.interp(at, ins, outs) * RATE)
            np.testing.assert_allclose(starts(y), meant, atol=1, err_msg=str(factor))

    def test_pitch_is_kept_and_nothing_breaks(self):
        x = (0.4 * np.sin(2 * np.pi * 330 * np.arange(3 * RATE) / RATE))[:, None].astype(np.float32)
        for factor in (0.8, 1.2):
            y = time_stretched(x, RATE, [0, 3 * factor], [0, 3])[:, 0]
            self.assertEqual(len(y), round(3 * factor * RATE))
            spectrum = np.abs(np.fft.rfft(y * np.hanning(len(y))))
            self.assertAlmostEqual(np.argmax(spectrum) * RATE / len(y), 330, delta=1)
            steepest = 0.4 * 2 * np.pi * 330 / RATE
            self.assertLess(np.abs(np.diff(y[1000:-1000])).max(), 1.6 * steepest)

    def test_time_as_it_was_is_the_source_itself(self):
        x = hits([0.5, 1.0], 2, 0.2)
        np.testing.assert_array_equal(time_stretched(x, RATE, [0, 2], [0, 2], [0.5, 1.0]), x)

    def test_paths_rise(self):
        for outs, ins in (([0, 1], [0]), ([0, 0], [0, 1]), ([0, 1], [1, 0])):
            with self.assertRaises(ValueError):
                time_stretched(hits([0.5], 1), RATE, outs, ins)


class AttacksOfALoop(TestCase):
    def test_each_stroke_is_found_also_where_the_loop_is_soft_or_a_channel_is_inverted(self):
        loop = hits(np.arange(4) * 0.48, 4 * 0.48)[:, :1]
        for name, source in (
            ("as it is", loop),
            ("40 dB softer", loop / np.float32(100)),
            ("inverted", np.concatenate([loop, -loop], axis=1)),
        ):
            with self.subTest(name):
                np.testing.assert_allclose(loops.attacks_in(source, RATE), np.arange(4) * 0.48, atol=0.002)


class Riding(TestCase):
    def test_a_loop_s_beats_stand_on_the_map_s(self):
        rng = np.random.default_rng(9)
        m = TempoMap.from_beats(0.7 + np.cumsum(0.5 + 0.025 * rng.standard_normal(33)), 0)
        loop = hits(np.arange(4) * 0.48, 4 * 0.48)
        notes = to_seconds(m, loops.loop_notes(m.meters, 1, 6, 4))
        y = loops.render_loop(loop, RATE, 4, notes, round(20 * RATE), np.arange(4) * 0.48)
        meant = np.round(m.beats().seconds[:24] * RATE)
        np.testing.assert_allclose(starts(y), meant, atol=1)
        self.assertFalse(y[: round(0.5 * RATE)].any())

    def test_a_beat_left_out_is_silent_and_the_others_stay(self):
        m = TempoMap.steady(120, Meters(), 0.0, 2)
        loop = hits(np.arange(4) * 0.5, 2)
        notes = [n for i, n in enumerate(to_seconds(m, loops.loop_notes(m.meters, 1, 2, 4))) if i != 5]
        y = loops.render_loop(loop, RATE, 4, notes, 4 * RATE, np.arange(4) * 0.5)
        self.assertEqual(starts(y).tolist(), [round(0.5 * k * RATE) for k in range(8) if k != 5])

    def test_odd_bars_take_the_next_beats(self):
        notes = loops.loop_notes(Meters.of((1, "4/4"), (2, "3/4"), (3, "4/4")), 1, 3, 4)
        self.assertEqual([n.pitch for n in notes], [k % 4 for k in range(11)])
        with self.assertRaises(ValueError):
            loops.loop_notes(Meters(), 1, 2, 0)


class Sections(TestCase):
    def test_whole_bars_nearest_to_a_stretch(self):
        m = TempoMap.steady(120, Meters(), 1.0, 8)
        found = whole_bars(m, 3.1, 6.8, RATE)
        self.assertEqual((found.first, found.last), (2, 3))
        self.assertEqual((found.start, found.end), (3 * RATE, 7 * RATE))
        self.assertEqual(found.lines, [5 * RATE, 7 * RATE])
        self.assertEqual(whole_bars(m, 3.1, 3.2, RATE).end, 5 * RATE)  # one bar at least


class Seams(TestCase):
    def test_a_loop_comes_round_without_a_step_and_begins_untouched(self):
        """A tone that does not fit the loop would click at its end."""
        tone = np.sin(2 * np.pi * 97.3 * np.arange(RATE) / RATE)[:, None].astype(np.float32)
        pre = wavloop.BLEND
        cut = wavloop.seamless(tone[2_000 - pre : 20_000], pre)
        raw = tone[2_000:20_000]
        self.assertEqual(len(cut), len(raw))
        np.testing.assert_array_equal(cut[:-pre], raw[:-pre])
        steepest = float(np.abs(np.diff(raw[:, 0])).max())
        self.assertGreater(abs(float(raw[-1, 0] - raw[0, 0])), 5 * steepest)  # what would click
        self.assertLess(abs(float(cut[-1, 0] - cut[0, 0])), 1.5 * steepest)
        self.assertLess(float(np.abs(cut).max()), 1.45)

    def test_at_the_very_start_of_a_recording_there_is_nothing_to_blend_into(self):
        samples = np.ones((100, 1), dtype=np.float32)
        np.testing.assert_array_equal(wavloop.seamless(samples, 0), samples)
