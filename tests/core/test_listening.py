"""Listening: files as they come, attacks where they are, peaks that tell the truth."""

import tempfile
from pathlib import Path
from unittest import TestCase

import librosa
import numpy as np
import soundfile as sf
from scipy.signal import get_window, oaconvolve

from core import audio
from core.audio.peaks import LEVELS, PeakMaker
from core.audio.windows import periodic_hann
from core.listening import attacks, spectrum
from core.listening.track import analyse_track, as_loud_as_usual

RATE = 44_100


def strokes(times, rate=RATE, seconds=None, level=0.8):
    """Sharp decaying strokes, each starting at its nearest sample."""
    x = np.zeros(round((seconds or max(times) + 1) * rate))
    t = np.arange(round(0.15 * rate)) / rate
    sound = level * np.cos(2 * np.pi * 900 * t) * np.exp(-t / 0.02)
    for at in times:
        i = round(at * rate)
        n = min(len(sound), len(x) - i)
        x[i : i + n] += sound[:n]
    return x


def bowed(times, pitches, rate=RATE):
    """One held sound of eight partials that takes another pitch at each of ``times``."""
    k = np.clip(np.searchsorted(times, np.arange(round((times[-1] + 1) * rate)) / rate, side="right") - 1, 0, None)
    x = np.zeros(len(k))
    blur = np.hanning(round(0.02 * rate))
    for note, pitch in enumerate(pitches):
        here = oaconvolve((k == note).astype(float), blur / blur.sum(), "same")
        on = np.flatnonzero(here > 1e-9)
        phase = 2 * np.pi * pitch * np.arange(len(on)) / rate
        x[on] += 0.2 * here[on] * sum(np.sin(h * phase) / h for h in range(1, 9))
    return x


class Folder(TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class Formats(Folder):
    def test_every_format_subtype_rate_and_width(self):
        times = np.arange(0.5, 3, 0.5)
        for name, subtype, rate, channels in (
            ("a.wav", "PCM_16", 44_100, 1),
            ("b.wav", "PCM_24", 48_000, 2),
            ("c.wav", "PCM_32", 88_200, 1),
            ("d.wav", "FLOAT", 96_000, 2),
            ("e.aiff", "PCM_24", 44_100, 1),
            ("f.flac", "PCM_24", 192_000, 1),
            ("g.ogg", "VORBIS", 48_000, 2),
            ("h.mp3", "MPEG_LAYER_III", 44_100, 1),
            ("i.wav", "PCM_16", 22_050, 1),
        ):
            with self.subTest(name):
                x = np.repeat(strokes(times, rate, 3.5)[:, None], channels, axis=1)
                sf.write(self.folder / name, x, rate, subtype)
                info = audio.inspect(self.folder / name)
                self.assertEqual((info.rate, info.channels, info.missing), (rate, channels, 0))
                self.assertAlmostEqual(info.seconds, 3.5, delta=0.06)
                heard = analyse_track(self.folder / name, name)
                # lossy formats may smear an attack; MP3 also delays by its frames
                within = 0.03 if name == "h.mp3" else 0.004
                self.assertEqual(len(heard.attacks), 5)
                np.testing.assert_allclose(heard.attacks.seconds, times, atol=within)

    def test_an_inverted_channel_takes_no_attack_away(self):
        times = np.arange(0.5, 3, 0.5)
        x = strokes(times, seconds=3.5)
        for name, right in (("same", x), ("inverted", -x), ("nearly", -0.95 * x), ("silent", 0 * x)):
            with self.subTest(name):
                sf.write(self.folder / "x.wav", np.stack([x, right], axis=1), RATE)
                heard = analyse_track(self.folder / "x.wav", "x")
                np.testing.assert_allclose(heard.attacks.seconds, times, atol=0.004)
                self.assertEqual(len(heard.remarks), name in ("inverted", "nearly"), heard.remarks)

    def test_what_cannot_be_used_is_said_by_name(self):
        (self.folder / "notes.txt").write_text("not a sound")
        (self.folder / "empty.wav").write_bytes(b"")
        sf.write(self.folder / "none.wav", np.zeros(0), RATE)
        sf.write(self.folder / "six.wav", np.zeros((100, 6)), RATE)
        for name, words in (
            ("notes.txt", "not audio"),
            ("empty.wav", "no bytes"),
            ("none.wav", "without a single"),
            ("six.wav", "6 channels"),
        ):
            with self.assertRaisesRegex(audio.AudioError, words) as caught:
                audio.inspect(self.folder / name)
            self.assertIn(name, str(caught.exception))

    def test_a_truncated_file_is_used_as_far_as_it_goes(self):
        x = strokes(np.arange(0.5, 9, 0.5), seconds=10)
        for name in ("cut.wav", "cut.flac"):
            with self.subTest(name):
                sf.write(self.folder / name, x, RATE)
                whole = (self.folder / name).read_bytes()
                (self.folder / name).write_bytes(whole[: len(whole) // 2])
                info = audio.inspect(self.folder / name)
                self.assertGreater(info.missing / info.rate, 2)
                heard = analyse_track(self.folder / name, name, info)
                self.assertIn("ends early", heard.remarks[0])
                self.assertGreater(len(heard.attacks), 4)

    def test_samples_that_are_not_numbers_become_silence(self):
        x = strokes([1.0, 2.0]).astype(np.float32)
        x[5000:5010], x[6000] = np.nan, np.inf
        sf.write(self.folder / "nan.wav", x, RATE, "FLOAT")
        heard = analyse_track(self.folder / "nan.wav", "nan")
        self.assertIn("Samples that are not numbers: 11.", heard.remarks[0])
        self.assertTrue(np.isfinite(heard.evidence.flux).all())
        self.assertTrue(np.isfinite(audio.read(self.folder / "nan.wav", 4990, 100)).all())

    def test_silent_and_clipped_are_remarked(self):
        sf.write(self.folder / "silent.wav", np.zeros(5 * RATE), RATE)
        silent = analyse_track(self.folder / "silent.wav", "silent")
        self.assertIn("silent", silent.remarks[0])
        self.assertEqual(len(silent.attacks), 0)
        sf.write(self.folder / "clipped.wav", np.clip(8 * strokes([1.0, 2.0]), -1, 1), RATE)
        self.assertIn("Clipped", analyse_track(self.folder / "clipped.wav", "clipped").remarks[0])

    def test_reading_past_the_end_is_silence(self):
        sf.write(self.folder / "x.wav", np.full(100, 0.5), RATE)
        got = audio.read(self.folder / "x.wav", 90, 20)[:, 0]
        self.assertTrue((got[:10] > 0.4).all() and (got[10:] == 0).all())
        self.assertEqual(audio.read(self.folder / "x.wav", 500, 8).any(), False)

    def test_a_copy_at_another_rate_keeps_time(self):
        times = np.arange(0.5, 8, 0.5)
        sf.write(self.folder / "x.wav", strokes(times), RATE)
        audio.write_at_rate(self.folder / "x.wav", self.folder / "y.flac", 48_000)
        self.assertEqual(audio.inspect(self.folder / "y.flac").rate, 48_000)
        heard = analyse_track(self.folder / "y.flac", "y")
        np.testing.assert_allclose(heard.attacks.seconds, times, atol=0.002)


class Attacks(Folder):
    def test_a_percussive_attack_is_placed_within_half_a_millisecond(self):
        rng = np.random.default_rng(2)
        times = 0.5 + np.cumsum(rng.uniform(0.2, 0.7, 60))
        sf.write(self.folder / "x.wav", strokes(times), RATE)
        found = analyse_track(self.folder / "x.wav", "x").attacks.seconds
        self.assertEqual(len(found), len(times))
        self.assertLess(np.median(np.abs(found - times)), 0.0005)
        self.assertLess(np.abs(found - times).max(), 0.002)

    def test_vibrato_is_not_an_attack(self):
        t = np.arange(6 * RATE) / RATE
        pitch = 440 * 2 ** (0.5 / 12 * np.sin(2 * np.pi * 6 * t))
        x = 0.4 * np.sin(2 * np.pi * np.cumsum(pitch) / RATE) * np.minimum(1, t / 0.02)
        sf.write(self.folder / "x.wav", x, RATE)
        heard = analyse_track(self.folder / "x.wav", "x")
        strong = heard.attacks.seconds[(heard.attacks.strength > 0.5) & (heard.attacks.seconds > 0.2)]
        self.assertLessEqual(len(strong), 2)

    def test_nor_is_a_violin_s(self):
        """A quarter of a semitone either way on ten partials, six times a second (common practice)."""
        t = np.arange(6 * RATE) / RATE
        phase = 2 * np.pi * np.cumsum(440 * 2 ** (0.25 / 12 * np.sin(2 * np.pi * 6 * t))) / RATE
        x = 0.2 * sum(np.sin(h * phase) / h for h in range(1, 11)) * np.minimum(1, t / 0.02)
        sf.write(self.folder / "x.wav", x, RATE)
        self.assertLessEqual(len(analyse_track(self.folder / "x.wav", "x").attacks), 4)

    def test_the_notes_of_a_bow_are_attacks_though_its_level_never_rises(self):
        """Steps of one to four semitones, one note melting into the next within 20 ms, loud and 40 dB softer."""
        rng = np.random.default_rng(4)
        times = 0.5 + np.cumsum(rng.uniform(0.18, 0.5, 50))
        x = bowed(times, 440 * 2 ** (np.cumsum(rng.choice([-4, -2, -1, 1, 2, 4], 50)) / 24))
        x += 1e-4 * rng.standard_normal(len(x))
        for level in (1.0, 0.01):
            with self.subTest(level):
                sf.write(self.folder / "x.wav", level * x, RATE, "FLOAT")
                found = analyse_track(self.folder / "x.wav", "x").attacks
                heard = found.seconds[found.strength > 0.3]
                away = np.abs(times[1:, None] - heard[None]).min(axis=1)
                self.assertGreater((away < 0.02).mean(), 0.95)
                self.assertLess(np.median(away), 0.01)
                self.assertLess((np.abs(heard[:, None] - times[None]).min(axis=1) > 0.05).mean(), 0.05)

    def test_a_soft_recording_has_the_attacks_of_a_loud_one(self):
        """Chords of a soft instrument, 6 to 46 dB below full scale."""
        times = np.arange(0.5, 12, 0.4)
        x = bowed(times, 220 * 2 ** (np.arange(len(times)) % 5 / 12))
        x *= np.exp(-2 * ((np.arange(len(x)) / RATE - 0.5) % 0.4))
        found = []
        for gain in (0.5, 0.05, 0.005):
            sf.write(self.folder / "x.wav", gain * x / np.abs(x).max(), RATE, "FLOAT")
            found.append(analyse_track(self.folder / "x.wav", "x").attacks)
        for softer in found[1:]:
            np.testing.assert_allclose(softer.seconds, found[0].seconds, atol=0.001)
            np.testing.assert_allclose(softer.strength, found[0].strength, atol=0.2)

    def test_silence_noise_and_what_is_loud_stay_as_they_are(self):
        loud = strokes(np.arange(0, 5, 0.5), 20_000).astype(np.float32)
        noise = 1e-4 * np.random.default_rng(9).standard_normal(len(loud)).astype(np.float32)
        for same in (loud, 0 * loud, loud[:10] / 100, noise, 30 * noise, noise[:500]):
            self.assertIs(as_loud_as_usual(same), same)
        for gain in (0.1, 0.02):
            raised = as_loud_as_usual(np.float32(gain) * loud + noise)
            self.assertAlmostEqual(float(np.abs(raised).max()), 10 ** (-15 / 20), places=3)
        np.testing.assert_allclose(as_loud_as_usual(loud / 1e5), loud / 1e3, rtol=1e-5)  # by 40 dB at most

    def test_a_recording_that_is_cut_on_its_first_stroke_has_an_attack_there(self):
        for level in (0.0, 1e-3):
            with self.subTest(level):
                x = strokes(np.arange(0, 5, 0.5))
                x += level * np.random.default_rng(7).standard_normal(len(x))
                sf.write(self.folder / "x.wav", x, RATE)
                found = analyse_track(self.folder / "x.wav", "x").attacks
                np.testing.assert_allclose(found.seconds[found.strength > 0.5], np.arange(0, 5, 0.5), atol=0.002)
                self.assertEqual(found.sharpness[0], 1)

    def test_the_noise_of_a_room_has_none_where_it_begins(self):
        for level in (1e-4, 1e-3, 1e-2):
            with self.subTest(level):
                x = strokes(np.arange(1.5, 6, 0.5))
                x += level * np.random.default_rng(8).standard_normal(len(x))
                sf.write(self.folder / "x.wav", x, RATE)
                found = analyse_track(self.folder / "x.wav", "x").attacks
                self.assertEqual(len(found.seconds[(found.seconds < 0.2) & (found.strength > 0.3)]), 0)

    def test_new_notes_agree_with_librosa_s_superflux(self):
        """librosa.onset.onset_strength with lag and maximum filter (Böck and Widmer 2013, librosa's own example) on a
        spectrogram of single partials, as the outside judge."""
        rng = np.random.default_rng(5)
        times = 0.5 + np.cumsum(rng.uniform(0.25, 0.5, 40))
        x = bowed(times, 330 * 2 ** (rng.integers(-7, 8, 40) / 12))
        sf.write(self.folder / "x.wav", x, RATE)
        ours = attacks.partial_flux_envelope(analyse_track(self.folder / "x.wav", "x").evidence.partial_flux)
        bands = librosa.feature.melspectrogram(
            y=x.astype(np.float32), sr=RATE, n_fft=2048, hop_length=441, fmin=27.5, fmax=16000, n_mels=138
        )
        theirs = librosa.onset.onset_strength(
            S=librosa.power_to_db(bands, ref=np.max), sr=RATE, hop_length=441, lag=2, max_size=3
        )
        n = min(len(ours), len(theirs))
        lags = [np.corrcoef(np.roll(ours[:n], k), theirs[:n])[0, 1] for k in range(-3, 4)]
        self.assertGreater(max(lags), 0.7)

    def test_blocks_do_not_matter(self):
        rng = np.random.default_rng(6)
        x = np.cumsum(rng.standard_normal(60_000)).astype(np.float32) / 300
        whole, parts = (spectrum.evidence(b) for b in ([x], np.array_split(x, 7)))
        for name in ("flux", "energy", "chroma", "partial_flux"):
            np.testing.assert_allclose(getattr(parts, name), getattr(whole, name), rtol=1e-5, atol=1e-6)

    def test_flux_agrees_with_librosa_s_onset_strength(self):
        """librosa.onset.onset_strength (spectral flux on a mel spectrogram) as the outside judge."""
        times = np.arange(0.5, 12, 0.37)
        x = strokes(times) + 0.002 * np.random.default_rng(1).standard_normal(round((times[-1] + 1) * RATE))
        sf.write(self.folder / "x.wav", x, RATE)
        ours = attacks.flux_envelope(analyse_track(self.folder / "x.wav", "x").evidence.flux)
        theirs = librosa.onset.onset_strength(y=x.astype(np.float32), sr=RATE, hop_length=441)
        n = min(len(ours), len(theirs))
        lags = [np.corrcoef(np.roll(ours[:n], k), theirs[:n])[0, 1] for k in range(-3, 4)]
        self.assertGreater(max(lags), 0.75)

    def test_blocks_of_any_size_give_the_same_evidence(self):
        x = np.random.default_rng(4).standard_normal(70_000).astype(np.float32)
        whole = spectrum.evidence([x])
        for size in (777, 5_000, 33_333):
            parts = spectrum.evidence(x[i : i + size] for i in range(0, len(x), size))
            np.testing.assert_allclose(parts.flux, whole.flux, atol=1e-6)
            self.assertEqual(len(parts), len(whole))

    def test_chroma_names_the_pitch(self):
        """A4 = 440 Hz (ISO 16) is pitch class 9."""
        t = np.arange(20_000) / 20_000
        for hertz, name in ((440.0, 9), (261.626, 0), (739.989, 6)):
            chroma = spectrum.evidence([np.sin(2 * np.pi * hertz * t).astype(np.float32)]).chroma[50]
            self.assertEqual(int(chroma.argmax()), name)


class Held(TestCase):
    def test_each_level_is_the_largest_of_it_and_those_before_it(self):
        rng, reach = np.random.default_rng(5), attacks._HOLD
        for count in (1, 2, reach, reach + 1, reach + 2, 2 * reach + 3, 445):
            levels = rng.normal(size=count)
            wanted = [levels[max(0, k - reach) : k + 1].max() for k in range(count)]
            attacks._hold(levels)
            np.testing.assert_array_equal(levels, wanted)


class Drawn(TestCase):
    def test_peaks_are_the_extremes_at_every_level(self):
        x = np.random.default_rng(0).uniform(-1, 1, (100_001, 2)).astype(np.float32)
        maker = PeakMaker()
        for i in range(0, len(x), 7777):
            maker.add(x[i : i + 7777])
        levels = maker.levels()
        self.assertEqual(set(levels), set(LEVELS))
        for size in LEVELS:
            for k in (0, 1, len(levels[size]) - 1):
                part = x[k * size : (k + 1) * size]
                np.testing.assert_allclose(levels[size][k] / 32767, [part.min(), part.max()], atol=2e-5)


class Windows(TestCase):
    def test_the_window_of_spectra_is_scipy_s_periodic_one(self):
        for size in (1024, 1023):
            np.testing.assert_allclose(periodic_hann(size), get_window("hann", size), atol=1e-7)
