"""Sound sets: read after their published standard, and played like a second reader of the format plays them."""

import io
import tempfile
from pathlib import Path
from unittest import TestCase

import mido
import numpy as np
import soundfile as sf
from django.conf import settings

from core.instruments.sampler import Shade, play
from core.instruments.soundfont import SoundFont, SoundFontError
from core.instruments.stream import Player, render_block
from core.instruments.strokes import strokes_of
from core.notes import Note
from tests.core.sound_fonts import KEYS, MODES, ROOT, Tone, sound_font

RATE = 48_000
TURN = np.sin(2 * np.pi * 440 * np.arange(RATE) / RATE)


def written(*tones: Tone) -> SoundFont:
    with tempfile.NamedTemporaryFile(suffix=".sf2", delete=False) as file:
        file.write(sound_font(tones))
    return SoundFont(Path(file.name))


def pitch_of(x: np.ndarray) -> float:
    """Hz of the strongest partial, by a parabola through the logarithm of a windowed spectrum."""
    size = 1 << 17
    level = np.log(np.abs(np.fft.rfft(x * np.hanning(len(x)), size)) + 1e-12)
    k = int(np.argmax(level))
    a, b, c = level[k - 1 : k + 2]
    return (k + 0.5 * (a - c) / (a - 2 * b + c)) * RATE / size


class TheFormat(TestCase):
    def test_a_zone_sounds_for_its_keys_and_a_preset_adds_to_its_instrument(self):
        high = 127 << 8 | 60
        font = written(Tone(TURN, gens={KEYS: high, 48: 100}, preset_gens={48: 50, 51: 12}))
        self.assertEqual(font.zones(0, 0, 59, 100), [])
        zone = font.zones(0, 0, 60, 100)[0]
        self.assertEqual((zone.generators[48], zone.generators[51]), (150, 12))

    def test_an_octave_up_is_twice_as_high(self):
        font = written(Tone(TURN))
        for key, hertz in ((69, 440), (81, 880), (57, 220), (70, 440 * 2 ** (1 / 12))):
            self.assertAlmostEqual(pitch_of(play(font, 0, 0, RATE, key, 127, 0.4)[:, 0]), hertz, delta=0.05)

    def test_tuning_root_key_and_shade_are_cents(self):
        font = written(Tone(TURN, gens={52: 50, ROOT: 57}))
        sharp = 440 * 2 ** ((1200 + 50) / 1200)
        self.assertAlmostEqual(pitch_of(play(font, 0, 0, RATE, 69, 127, 0.3)[:, 0]), sharp, delta=0.1)
        shaded = pitch_of(play(font, 0, 0, RATE, 69, 127, 0.3, Shade(cents=10))[:, 0])
        self.assertAlmostEqual(1200 * np.log2(shaded / sharp), 10, delta=0.2)

    def test_a_loop_goes_on_without_a_seam(self):
        turns = 4800  # 44 turns of 440 Hz
        font = written(Tone(TURN[: turns + 8], loop=(0, turns), gens={MODES: 1}))
        x = play(font, 0, 0, RATE, 69, 127, 2.0)[: 2 * RATE, 0]
        self.assertLess(np.abs(np.diff(x, 2)).max(), 1.05 * np.abs(np.diff(x[:4000], 2)).max())
        self.assertGreater(np.abs(x[-4000:]).max(), 0.9 * np.abs(x[:4000]).max())

    def test_without_a_loop_it_ends_with_its_sample(self):
        font = written(Tone(TURN[: RATE // 10]))
        self.assertAlmostEqual(len(play(font, 0, 0, RATE, 69, 127, 2.0)) / RATE, 0.1, delta=0.001)

    def test_velocity_is_level_and_brightness(self):
        # default modulators 8.4.1 and 8.4.2: 40 log10(127 / velocity) dB softer, and a filter up to two octaves lower
        rng = np.random.default_rng(3)
        font = written(Tone(rng.uniform(-0.5, 0.5, RATE)))
        loud, soft = (play(font, 0, 0, RATE, 69, v, 0.9)[:40_000, 0] for v in (127, 32))
        parts = [np.abs(np.fft.rfft(x)) ** 2 for x in (loud, soft)]
        hertz = np.fft.rfftfreq(40_000, 1 / RATE)
        low, high = ([10 * np.log10(p[(hertz > a) & (hertz < b)].sum()) for p in parts] for a, b in
                     ((200, 1500), (12_000, 20_000)))  # fmt: skip
        self.assertAlmostEqual(low[0] - low[1], 40 * np.log10(127 / 32), delta=0.5)
        self.assertGreater(high[0] - high[1], low[0] - low[1] + 3)

    def test_a_release_falls_evenly_in_db(self):
        font = written(Tone(TURN, loop=(0, 4800), gens={MODES: 1, 38: 0}))  # 0 timecents: 100 dB in a second
        x = np.abs(play(font, 0, 0, RATE, 69, 127, 0.5)[:, 0])
        level = [20 * np.log10(x[round(a * RATE) : round((a + 0.02) * RATE)].max()) for a in (0.55, 0.65, 0.75)]
        self.assertAlmostEqual(level[0] - level[1], 10, delta=0.3)
        self.assertAlmostEqual(level[1] - level[2], 10, delta=0.3)

    def test_what_is_no_sound_set_is_told_in_a_sentence(self):
        good = sound_font([Tone(TURN)])
        none = "no SoundFont"
        for data, words in ((b"", none), (b"RIFF\0\0\0\0WAVEfmt ", none), (good[:400], none),
                            (good.replace(b"shdr", b"xxxx"), "no shdr")):  # fmt: skip
            with tempfile.NamedTemporaryFile(suffix=".sf2") as file:
                file.write(data)
                file.flush()
                with self.assertRaisesRegex(SoundFontError, words):
                    SoundFont(Path(file.name))
        rng = np.random.default_rng(0)
        for _ in range(150):  # damaged anywhere: a sentence, or a set that plays something
            data = bytearray(good)
            for at in rng.integers(0, len(good) - len(TURN) * 2, 3) + rng.integers(0, 2) * 2 * len(TURN):
                data[at % len(data)] = int(rng.integers(0, 256))
            with tempfile.NamedTemporaryFile(suffix=".sf2") as file:
                file.write(data)
                file.flush()
                try:
                    x = play(SoundFont(Path(file.name)), 0, 0, RATE, 69, 100, 0.05)
                except SoundFontError:
                    continue
                self.assertTrue(np.isfinite(x).all())


class BesideASecondReader(TestCase):
    """midirenderer (MIT; RustySynth inside), on the same set: it plays all 10 dB softer, and on blocks of its own."""

    def test_level_and_spectrum_are_the_same(self):
        import midirenderer

        rng = np.random.default_rng(5)
        rich = sum(np.sin(2 * np.pi * 220 * k * np.arange(RATE) / RATE) / k for k in range(1, 12)) / 3
        tones = [
            Tone(rich, key=57, program=0),
            Tone(rich, key=57, program=1, loop=(0, 24_000), gens={MODES: 1, 34: -2400, 36: -1200, 37: 120, 38: -1200}),
            Tone(rich, key=57, program=2, gens={8: 9000, 48: 60}),
            Tone(rng.uniform(-0.5, 0.5, RATE), key=57, program=3, gens={8: 8000, 11: 2400, 28: -1200, 29: 700}),
        ]
        data = sound_font(tones)
        font = written(*tones)
        off = []
        for program, key, velocity in (
            (0, 57, 127),
            (0, 64, 80),
            (1, 57, 110),
            (1, 50, 127),
            (2, 57, 127),
            (3, 57, 127),
        ):
            theirs, rate = sf.read(io.BytesIO(midirenderer.render_wave_from(data, _midi(program, key, velocity))))
            ours = play(font, 0, program, RATE, key, velocity, 0.5)
            size = round(0.45 * RATE)
            self.assertEqual(rate, RATE)
            off.append(_bands(ours[:size].mean(axis=1)) - _bands(theirs[:size].mean(axis=1)))
        off = np.array(off)
        np.testing.assert_allclose(off, np.median(off), atol=1.5)


def _midi(program: int, key: int, velocity: int) -> bytes:
    file = mido.MidiFile(ticks_per_beat=480)
    track = mido.MidiTrack()
    file.tracks.append(track)
    track.append(mido.Message("program_change", program=program))
    track.append(mido.Message("note_on", note=key, velocity=velocity))
    track.append(mido.Message("note_off", note=key, time=480))
    track.append(mido.MetaMessage("end_of_track", time=960))
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


def _bands(x: np.ndarray) -> np.ndarray:
    """dB in 150 to 700, 700 to 1500, 1500 to 3000 Hz."""
    power, hertz = np.abs(np.fft.rfft(x * np.hanning(len(x)))) ** 2, np.fft.rfftfreq(len(x), 1 / RATE)
    return np.array([10 * np.log10(power[(hertz > a) & (hertz <= b)].sum()) for a, b in
                     ((150, 700), (700, 1500), (1500, 3000))])  # fmt: skip


class TheSetThatShips(TestCase):
    def setUp(self):
        self.set = (settings.SOUND_SET, settings.SOUND_SET.stat().st_mtime_ns)
        self.font = SoundFont(settings.SOUND_SET)

    def test_it_has_every_instrument_and_every_drum_of_general_midi(self):
        # General MIDI (RP-003): 128 programs; percussion keys 35 to 81
        for program in range(128):
            self.assertTrue(self.font.zones(0, program, 60, 100), program)
        for key in range(35, 82):
            self.assertTrue(self.font.zones(128, 0, key, 100), key)

    def test_a_tone_is_in_tune(self):
        for program, key in ((0, 60), (33, 40), (48, 69), (25, 64)):
            hertz = 440 * 2 ** ((key - 69) / 12)
            found = pitch_of(play(self.font, 0, program, RATE, key, 100, 1.0)[: 1 << 15, 0])
            off = 1200 * np.log2(found / hertz)
            self.assertLess(abs(off - 1200 * round(off / 1200) - (702 if 600 < off % 1200 < 800 else 0)), 15, program)

    def test_a_stroke_is_heard_when_its_note_begins(self):
        for key in (36, 38, 42, 45, 49):
            x = np.abs(play(self.font, 128, 0, RATE, key, 100, 0.2)).max(axis=1)
            self.assertLess(int(np.argmax(x > 0.1 * x.max())) / RATE, 0.0035, key)

    def test_blocks_are_the_same_however_they_are_cut(self):
        notes = [Note(0.1 * k, 0.1 * k + 0.3, 36 + k % 8, 60 + k) for k in range(30)]
        for name in ("drums", "strings"):
            strokes, player = strokes_of(notes, name), Player(name, 48, self.set)
            whole = render_block(strokes, player, RATE, 0, 5 * RATE)
            cut = [render_block(strokes, player, RATE, a, 16_384) for a in range(0, 5 * RATE, 16_384)]
            np.testing.assert_array_equal(whole, np.concatenate(cut)[: 5 * RATE])

    def test_a_damaged_set_leaves_the_built_in_voices(self):
        with tempfile.NamedTemporaryFile(suffix=".sf2") as file:
            file.write(b"RIFFxxxxsfbk" + bytes(200))
            file.flush()
            strokes = strokes_of([Note(0, 0.2, 36, 100)], "drums")
            with self.assertLogs("core.instruments.stream", "ERROR"):
                x = render_block(strokes, Player("drums", 0, (Path(file.name), 1)), RATE, 0, RATE)
        np.testing.assert_array_equal(x, render_block(strokes, Player("drums"), RATE, 0, RATE))


class Strokes(TestCase):
    def players(self):
        return Player("drums"), Player("drums", 0, (settings.SOUND_SET, settings.SOUND_SET.stat().st_mtime_ns))

    def test_no_two_strokes_in_a_row_are_alike(self):
        notes = [Note(float(k), k + 0.1, 38, 90) for k in range(6)]
        for player in self.players():
            x = render_block(strokes_of(notes, "drums"), player, RATE, 0, 6 * RATE)
            strokes = x.reshape(6, RATE, 2)
            for a, b in zip(strokes, strokes[1:], strict=False):
                self.assertGreater(np.abs(a - b).max(), 0.02 * np.abs(a).max())
                level = [10 * np.log10((s**2).mean()) for s in (a, b)]
                self.assertLess(abs(level[0] - level[1]), 1.5)

    def test_a_closed_hat_ends_an_open_one(self):
        alone = [Note(0.0, 0.5, 46, 100)]
        for player in self.players():
            open_, choked = (
                render_block(strokes_of(notes, "drums"), player, RATE, 0, RATE)
                for notes in (alone, [*alone, Note(0.3, 0.35, 42, 1)])
            )
            at = round(0.3 * RATE)
            np.testing.assert_array_equal(open_[:at], choked[:at])
            rest = slice(at + round(0.05 * RATE), at + round(0.2 * RATE))
            self.assertLess((choked[rest] ** 2).sum(), 0.01 * (open_[rest] ** 2).sum())

    def test_hats_and_piano_stand_in_the_room(self):
        for player in self.players():
            x = render_block(strokes_of([Note(0, 0.1, 42, 100)], "drums"), player, RATE, 0, RATE // 4)
            self.assertGreater((x[:, 1] ** 2).sum(), 1.3 * (x[:, 0] ** 2).sum())
