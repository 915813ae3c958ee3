"""The written MIDI file, read back by two other libraries over an hour of drifting tempo.

Standard MIDI Files 1.0 (RP-001): tempo in microseconds a quarter, 120 a minute when absent, time
signature as numerator and power of two.
"""

import io
import tempfile
from pathlib import Path
from unittest import TestCase

import mido
import numpy as np
import symusic

from core.formats import smf
from core.tempomap import Meters, TempoMap


def hour(seed=3):
    """60 minutes of beats between 90 and 150 a minute, in 4/4 with a 7/8 and a 3/4 stretch, after a pickup."""
    rng = np.random.default_rng(seed)
    gaps = 60 / np.clip(120 + np.cumsum(rng.normal(0, 0.8, 7300)), 90, 150)
    times = 1.2345678 + np.concatenate([[0], np.cumsum(gaps)])
    meters = Meters.of((1, "4/4"), (200, "2+2+3/8"), (240, "4/4"), (900, "3/4"), (940, "4/4"))
    return TempoMap.from_beats(times[times < 3600], -1, meters)


def saved(written):
    out = io.BytesIO()
    written.file.save(file=out)
    return out.getvalue()


def bars_by_mido(data):
    now, out = 0.0, {}
    for message in mido.MidiFile(file=io.BytesIO(data)):
        now += message.time
        if message.type == "marker" and message.text.startswith("Bar "):
            out[int(message.text[4:])] = now
    return out


class AnHour(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.map = hour()
        cls.written = smf.write(cls.map, "An hour")
        cls.data = saved(cls.written)

    def test_mido_finds_every_bar_line_within_a_tenth_of_a_millisecond(self):
        bars = bars_by_mido(self.data)
        self.assertGreater(len(bars), 1500)
        for bar, t in bars.items():
            self.assertLess(abs(t - float(self.map.bar_seconds(bar))), 1e-4, f"bar {bar}")

    def test_symusic_finds_the_same(self):
        score = symusic.Score.from_midi(self.data, ttype="tick")
        tempos = [(t.time, t.mspq) for t in score.tempos]
        ticks = np.array([t for t, _ in tempos])
        slopes = np.array([m for _, m in tempos]) / 1e6 / score.tpq
        starts = np.concatenate([[0], np.cumsum(np.diff(ticks) * slopes[:-1])])
        for marker in score.markers:
            if marker.text.startswith("Bar "):
                i = np.searchsorted(ticks, marker.time, side="right") - 1
                t = starts[i] + (marker.time - ticks[i]) * slopes[i]
                self.assertLess(abs(t - float(self.map.bar_seconds(int(marker.text[4:])))), 1e-4)
        found = [(s.numerator, s.denominator) for s in score.time_signatures]
        self.assertEqual(found, [(4, 4), (7, 8), (4, 4), (3, 4), (4, 4)])

    def test_errors_do_not_pile_up(self):
        # a quarter's rounding is half a microsecond; at most a bar of 4 between two written tempos
        self.assertLess(self.written.worst, 2.1e-6)

    def test_bars_of_the_file_are_whole(self):
        """Bar lines lie whole bars after the change before, as a sequencer will show them."""
        track = mido.MidiFile(file=io.BytesIO(self.data)).tracks[0]
        now, meter, since = 0, 4.0, 0
        for message in track:
            now += message.time
            if message.type == "time_signature":
                self.assertEqual((now - since) % round(meter * 960), 0)
                meter, since = message.numerator * 4 / message.denominator, now
            elif message.type == "marker" and message.text.startswith("Bar "):
                self.assertEqual((now - since) % round(meter * 960), 0)


class LeadIn(TestCase):
    def check(self, tempo_map, lead):
        written = smf.write(tempo_map)
        self.assertEqual(written.lead_in, lead)
        for bar, t in bars_by_mido(saved(written)).items():
            self.assertLess(abs(t - float(tempo_map.bar_seconds(bar))), 1e-4)
        return written.file

    def test_none_where_bar_one_is_time_zero(self):
        self.check(TempoMap.steady(100, start=0.0), 0)

    def test_whole_bars_near_the_music_s_tempo(self):
        file = self.check(TempoMap.steady(120, start=4.1), 2)  # two bars of 4/4 at 120 are 4 s
        first = next(m for m in file.tracks[0] if m.type == "set_tempo")
        self.assertAlmostEqual(60e6 / first.tempo, 8 * 60 / 4.1, places=2)

    def test_a_pickup_keeps_its_own_beats(self):
        self.check(TempoMap.from_beats(2.4 + 0.5 * np.arange(20), -1), 2)

    def test_a_take_that_starts_with_its_pickup(self):
        file = self.check(TempoMap.from_beats(0.5 * np.arange(20), -1), 1)
        meters = [m for m in file.tracks[0] if m.type == "time_signature"]
        self.assertEqual([(m.numerator, m.denominator) for m in meters], [(1, 4), (4, 4)])

    def test_a_take_cut_just_before_bar_one(self):
        self.check(TempoMap.from_beats(0.01 + 0.5 * np.arange(20), 0), 1)

    def test_a_bar_longer_than_midi_can_say_is_refused_in_words(self):
        m = TempoMap.from_beats([1, 2, 3, 25, 26, 27, 28])
        with self.assertRaisesRegex(smf.MidiError, "16.7"):
            smf.write(m)


class Notes(TestCase):
    def test_written_and_read(self):
        notes = [smf.Note(0.1234, 0.5, 60, 100), smf.Note(0.1234, 0.9, 64, 90), smf.Note(2.0, 2.5, 60, 1)]
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "x.mid"
            smf.write_notes(notes).save(path)
            again = smf.read_notes(path)
        for a, b in zip(notes, again, strict=True):
            self.assertEqual((a.pitch, a.velocity), (b.pitch, b.velocity))
            self.assertLess(abs(a.start - b.start), 0.6 / 1920 + 1e-9)

    def test_120_when_no_tempo_is_given(self):
        file = mido.MidiFile(ticks_per_beat=480)
        file.tracks.append(
            mido.MidiTrack(
                [mido.Message("note_on", note=60, velocity=64, time=960), mido.Message("note_off", note=60, time=480)]
            )
        )
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "x.mid"
            file.save(path)
            note = smf.read_notes(path)[0]
        self.assertAlmostEqual(note.start, 1.0)
        self.assertAlmostEqual(note.end, 1.5)

    def test_what_is_not_midi(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "x.mid"
            for data in (b"", b"RIFF....", b"MThd\0\0\0\6\0\1\0\1", b"MThd\0\0\0\6\0\1\0\0\1\xe0"):
                path.write_bytes(data)
                with self.assertRaises(smf.MidiError):
                    smf.read_notes(path)
