"""Engines: what is not moved stays to the sample, attacks arrive once and on time, pitch and phases stay."""

from functools import cache
from unittest import TestCase

import numpy as np

from core.audio import Samples
from core.reshaping.engines import ENGINES
from core.reshaping.engines.parting import PercussivePart, TonalPart, running_median
from core.reshaping.measured import coherence, measure, smear
from core.reshaping.rendering import length, rendered
from core.reshaping.sources import ArraySource, Together
from core.reshaping.warp import Warp

RATE = 48_000
AT = np.arange(0.5, 9.6, 0.3)
WARP = Warp([1.0, 4.0, 7.0, 9.0], [1.0, 4.35, 6.9, 9.3])
NONE = np.zeros(0)


def strokes(at, seconds=10.0, seed=1) -> Samples:
    rng = np.random.default_rng(seed)
    out = np.zeros(round(seconds * RATE))
    decay = np.exp(-np.arange(5000) / 900)
    for a in at:
        i = round(a * RATE)
        n = min(5000, len(out) - i)
        out[i : i + n] += (rng.standard_normal(5000) * decay)[:n] * 0.4
    return out[:, None].astype(np.float32)


def tone(hz, seconds=10.0) -> Samples:
    return (0.3 * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE))[:, None].astype(np.float32)


def render(x, warp, engine, attacks=NONE, **span):
    source = x if not isinstance(x, np.ndarray) else ArraySource(x, RATE)
    return np.concatenate(list(rendered(source, warp, engine, attacks, **span)))


@cache
def conformed(engine):
    """The strokes as ``engine`` moves them, made once for all tests."""
    y = render(strokes(AT), WARP, engine, AT)
    y.setflags(write=False)
    return y


def hz_of(x):
    """The pitch of a tone by the zero crossings' line, in Hz."""
    x = x[:, 0].astype(np.float64)
    k = np.flatnonzero((x[:-1] < 0) & (x[1:] >= 0))
    at = k - x[k] / (x[k + 1] - x[k])
    return RATE / np.polyfit(np.arange(len(at)), at, 1)[0]


class AnyEngine(TestCase):
    def test_what_keeps_its_place_is_the_recording_to_the_bit(self):
        x = np.concatenate([strokes(AT) + tone(220), strokes(AT, seed=2)], axis=1)
        for engine in ENGINES:
            with self.subTest(engine):
                np.testing.assert_array_equal(render(x, Warp.identity(), engine, AT), x)
                y = render(x, Warp.moving([4.1], [4.15], [3.0, 5.0]), engine, AT)
                self.assertEqual(len(y), len(x))
                np.testing.assert_array_equal(y[: 3 * RATE], x[: 3 * RATE])
                np.testing.assert_array_equal(y[5 * RATE :], x[5 * RATE :])
                self.assertFalse(np.array_equal(y[3 * RATE : 5 * RATE], x[3 * RATE : 5 * RATE]))

    def test_the_result_is_as_long_as_the_warp_says_and_the_same_again(self):
        x = strokes(AT)
        for engine in ENGINES:
            y = conformed(engine)
            self.assertEqual(len(y), length(WARP, ArraySource(x, RATE)))
            self.assertEqual(len(y), round(10.3 * RATE))
            np.testing.assert_array_equal(y, render(x, WARP, engine, AT))

    def test_ends_on_attacks_between_two_samples(self):
        """Attacks lie a quarter of a millisecond apart, which at 44.1 kHz is no whole number of samples."""
        rate, rng = 44_100, np.random.default_rng(3)
        x = ArraySource(strokes(AT)[: 9 * rate], rate)
        for n in range(12):
            at = AT[:28] + 0.00025 * rng.integers(0, 40, 28)
            warp = Warp.moving(at[6:10], at[6:10] + rng.uniform(-0.02, 0.02, 4), at[[3, 12]])
            engine = ENGINES[n % len(ENGINES)]
            with self.subTest(engine, at=at[[3, 12]] * rate):
                y = np.concatenate(list(rendered(x, warp, engine, at)))
                self.assertEqual(len(y), x.frames)
                last = round(at[12] * rate)
                np.testing.assert_array_equal(y[last:], x.samples[last:])

    def test_each_attack_comes_once_and_on_time(self):
        for engine in ENGINES:
            y = np.abs(np.diff(conformed(engine)[:, 0], prepend=0))
            loud = np.flatnonzero(y > 0.35)
            begins = loud[np.diff(loud, prepend=-RATE) > 0.1 * RATE] / RATE
            with self.subTest(engine):
                self.assertEqual(len(begins), len(AT))
                self.assertLess(np.abs(begins - WARP.to_target(AT)).max(), 0.001)

    def test_attacks_keep_their_slope_and_no_echo_comes_before_them(self):
        x = strokes(AT)
        for engine in ENGINES:
            made = ArraySource(conformed(engine), RATE)
            found = smear(ArraySource(x, RATE), made, AT, WARP)
            with self.subTest(engine):
                self.assertEqual(found.attacks, len(AT))
                self.assertLess(abs(found.slope - 1), 0.1)
                self.assertLess(found.echo_db, -30)

    def test_there_and_back_every_click_within_a_sample(self):
        x = np.zeros((10 * RATE, 1), dtype=np.float32)
        at = np.round(AT * RATE).astype(int)
        x[at] = 1
        for engine in ENGINES:
            y = render(x, WARP, engine, AT)
            z = render(y, WARP.inverse(), engine, WARP.to_target(AT))
            found = np.array([a - 200 + np.argmax(np.abs(z[a - 200 : a + 200, 0])) for a in at])
            with self.subTest(engine):
                self.assertLessEqual(np.abs(found - at).max(), 1)

    def test_a_piece_by_itself_is_the_piece_of_the_whole(self):
        y = conformed("cut")
        part = render(strokes(AT), WARP, "cut", AT, first=2 * RATE, last=3 * RATE)
        np.testing.assert_array_equal(part, y[2 * RATE : 3 * RATE])


class Pitch(TestCase):
    def test_a_tone_stays_within_a_cent(self):
        for engine in ("tonal", "blend", "voice"):
            for ratio in (0.85, 1.2):
                y = render(tone(440), Warp([0, 10], [0, 10 * ratio]), engine)
                middle = y[2 * RATE : 6 * RATE]
                with self.subTest(engine=engine, ratio=ratio):
                    self.assertLess(abs(1200 * np.log2(hz_of(middle) / 440)), 1)

    def test_a_held_chord_keeps_its_level(self):
        x = (tone(220) + tone(277.18) + tone(329.63)) / 2
        for engine in ("tonal", "blend"):
            y = render(x, Warp([0, 10], [0, 12]), engine)[RATE : 11 * RATE]
            loud = np.sqrt((y.reshape(-1, RATE // 5) ** 2).mean(axis=1))
            with self.subTest(engine):
                self.assertLess(abs(20 * np.log10(loud.mean() / np.sqrt((x**2).mean()))), 1)
                self.assertLess(loud.std() / loud.mean(), 0.06)


class Phase(TestCase):
    def test_a_stereo_pair_keeps_its_delay(self):
        mono = (strokes(AT) + tone(330) + tone(523.25))[:, 0]
        x = np.stack([mono, np.roll(mono, 37)], axis=1)
        for engine in ENGINES:
            y = render(x, WARP, engine, AT)
            a, b = y[RATE : 9 * RATE].T.astype(np.float64)
            size = 1 << 20
            cross = np.fft.irfft(np.fft.rfft(b, size) * np.conj(np.fft.rfft(a, size)), size)
            with self.subTest(engine):
                self.assertLessEqual(abs(int(np.argmax(cross[:200])) - 37), 1)

    def test_microphones_that_move_together_stay_in_phase(self):
        close = strokes(AT)
        room = np.roll(close, 480, axis=0) * 0.5 + 0.02 * strokes(AT, seed=9)
        group = Together([ArraySource(close, RATE), ArraySource(room, RATE)])
        for engine in ENGINES:
            y = render(group, WARP, engine, AT)
            one, two = group.split(y)
            at = WARP.to_target(AT)
            was = [coherence(*(m[round(a * RATE) :][:9600] for m in (close, room))) for a in AT[1:-1]]
            now = [coherence(*(m[round(a * RATE) :][:9600] for m in (one, two))) for a in at[1:-1]]
            with self.subTest(engine):
                self.assertGreater(np.median(now), np.median(was) - 0.02)


class Parts(TestCase):
    def test_both_parts_are_the_recording_again_and_blocks_do_not_matter(self):
        x = strokes(AT) + tone(440)
        tonal = TonalPart(ArraySource(x, RATE))
        whole = tonal.read(0, len(x))
        np.testing.assert_allclose(whole + PercussivePart(tonal).read(0, len(x)), x, atol=1e-6)
        again = TonalPart(ArraySource(x, RATE))
        pieces = [again.read(a, min(len(x), a + 70_001)) for a in range(0, len(x), 70_001)]
        np.testing.assert_array_equal(np.concatenate(pieces), whole)
        # the tone is tonal, the strokes are not
        self.assertGreater(np.corrcoef(whole[RATE:-RATE, 0], tone(440)[RATE:-RATE, 0])[0, 1], 0.97)

    def test_running_median_is_the_median(self):
        x = np.random.default_rng(0).standard_normal((3, 40)).astype(np.float32)
        y = running_median(x, 7)
        for i in range(3, 37):
            np.testing.assert_allclose(y[:, i], np.median(x[:, i - 3 : i + 4], axis=1))


class MeasuredOnRenders(TestCase):
    def test_a_smeared_softer_render_is_told(self):
        """Half as loud, with an echo 15 ms before every stroke, 26 dB under it."""
        x = strokes(AT)
        soft = 0.5 * (x + 0.05 * np.roll(x, -round(0.015 * RATE), axis=0))
        loud = ArraySource(x, RATE)
        (same,) = measure([loud], [loud], Warp.identity(), AT)
        self.assertEqual((same.smear.slope, same.level_db, same.in_phase), (1.0, 0.0, None))
        (found,) = measure([loud], [ArraySource(soft, RATE)], Warp.identity(), AT)
        self.assertAlmostEqual(found.smear.slope, 0.5, 1)
        self.assertGreater(found.smear.echo_db, -45)
        self.assertAlmostEqual(found.level_db, -6.02, 1)

    def test_a_microphone_out_of_phase_is_told(self):
        x = strokes(AT)
        noise = np.random.default_rng(1).standard_normal(x.shape).astype(np.float32) * 0.2
        pair = [ArraySource(x, RATE), ArraySource(np.roll(x, 300, axis=0), RATE)]
        _, room = measure(pair, [pair[0], ArraySource(noise, RATE)], Warp.identity(), AT)
        self.assertGreater(room.in_phase_before, 0.95)
        self.assertLess(room.in_phase, 0.3)
