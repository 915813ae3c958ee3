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


#: What stands at tick 0 of every map.
SETTINGS = {"set_tempo", "time_signature"}


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
        # a tempo is corrected before a bar line is off by more than this
        self.assertLess(self.written.worst, 5.1e-5)

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
        self.assertEqual(written.lead_in.words, lead)
        self.assertEqual({m.type for m in written.file.tracks[0] if m.time == 0} & SETTINGS, SETTINGS)
        for bar, t in bars_by_mido(saved(written)).items():
            self.assertLess(abs(t - float(tempo_map.bar_seconds(bar))), 1e-4)
        return written.file

    def test_none_where_bar_one_is_time_zero(self):
        self.check(TempoMap.steady(100, start=0.0), "")

    def test_whole_bars_near_the_music_s_tempo(self):
        file = self.check(TempoMap.steady(120, start=4.1), "2 bars")  # two bars of 4/4 at 120 are 4 s
        first = next(m for m in file.tracks[0] if m.type == "set_tempo")
        self.assertAlmostEqual(60e6 / first.tempo, 8 * 60 / 4.1, places=2)

    def test_a_pickup_keeps_its_own_beats(self):
        self.check(TempoMap.from_beats(2.4 + 0.5 * np.arange(20), -1), "a short bar of 2/4 and 1 bar")

    def test_a_take_that_starts_with_its_pickup(self):
        file = self.check(TempoMap.from_beats(0.5 * np.arange(20), -1), "a short bar of 1/4")
        meters = [m for m in file.tracks[0] if m.type == "time_signature"]
        self.assertEqual([(m.numerator, m.denominator) for m in meters], [(1, 4), (4, 4)])

    def test_a_take_cut_just_before_bar_one(self):
        self.check(TempoMap.from_beats(0.01 + 0.5 * np.arange(20), 0), "a short bar of 1/32")

    def test_beats_at_the_music_s_tempo_where_whole_bars_would_have_another(self):
        file = self.check(TempoMap.steady(120, start=1.03), "a short bar of 2/4")
        first = next(m for m in file.tracks[0] if m.type == "set_tempo")
        self.assertAlmostEqual(60e6 / first.tempo, 2 * 60 / 1.03, places=2)

    def test_a_long_pickup_is_whole_bars_and_a_short_one_before_them(self):
        """No bar of 32/4: a pickup of nine bars and a beat from time zero on."""
        file = self.check(TempoMap.from_beats(0.5 * np.arange(60), -37), "a short bar of 1/4 and 9 bars")
        meters = [(m.numerator, m.denominator) for m in file.tracks[0] if m.type == "time_signature"]
        self.assertEqual(meters, [(1, 4), (4, 4)])

    def test_a_bar_longer_than_midi_can_say_is_refused_in_words(self):
        m = TempoMap.from_beats([1, 2, 3, 25, 26, 27, 28])
        with self.assertRaisesRegex(smf.MidiError, "16.7"):
            smf.write(m)


class Events(TestCase):
    def tempos(self, tempo_map, **more):
        file = smf.write(tempo_map, **more).file
        return [m for m in file.tracks[0] if m.type == "set_tempo"], file

    def test_a_steady_hour_needs_few_tempos_and_stays_exact(self):
        steady = TempoMap.steady(97.3, start=0.0, bars=1450)
        tempos, file = self.tempos(steady)
        self.assertLess(len(tempos), 300)
        out = io.BytesIO()
        file.save(file=out)
        for bar, t in bars_by_mido(out.getvalue()).items():
            self.assertLess(abs(t - float(steady.bar_seconds(bar))), 1e-4)

    def test_a_tempo_stands_only_where_it_changes(self):
        tempos, _ = self.tempos(TempoMap.from_beats(np.concatenate([np.arange(20) * 0.5, 10 + np.arange(20) * 0.6])))
        self.assertEqual([round(60e6 / m.tempo) for m in tempos], [120, 100])

    def test_sections_are_markers_and_bars_need_not_be(self):
        steady = TempoMap.steady(120, start=2.0, bars=16)
        _, file = self.tempos(steady, sections=[(2.0, "Verse"), (18.0, "Chorus")], bar_markers=False)
        now, found = 0.0, {}
        for message in file:
            now += message.time
            if message.type == "marker":
                found[message.text] = now
        self.assertEqual(set(found), {"Verse", "Chorus"})
        self.assertAlmostEqual(found["Chorus"], 18.0, places=4)
        self.assertAlmostEqual(now, 34.0, places=3)


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


class KeyAndChords(TestCase):
    def test_they_stand_where_they_sound_as_another_reader_has_it(self):
        """Standard MIDI Files 1.0: text is meta event 1, a key signature counts sharps, or flats below zero."""
        from core.harmony.chords import FLAT, SHARP

        m = TempoMap.from_beats(0.7 + np.cumsum(np.random.default_rng(1).uniform(0.4, 0.6, 40)))
        chords = [(float(m.seconds_of_beat(k)), name) for k, name in ((0, "Dm"), (6, "Bb/D"), (8, "N.C."))]
        file = smf.write(m, chords=chords, key="D minor").file
        now, found = 0.0, []
        for message in file:
            now += message.time
            if message.type == "text":
                found.append((now, message.text))
        self.assertEqual([text for _, text in found], [text for _, text in chords])
        np.testing.assert_allclose([t for t, _ in found], [t for t, _ in chords], atol=1e-3)
        out = io.BytesIO()
        file.save(file=out)
        score = symusic.Score.from_midi(out.getvalue())
        self.assertEqual((score.key_signatures[0].key, score.key_signatures[0].tonality), (-1, 1))
        for tonic in (*SHARP, *FLAT):
            for mode in ("major", "minor"):
                smf.write(m, key=f"{tonic} {mode}")


class CountIn(TestCase):
    def test_so_many_bars_stand_before_bar_one_and_all_else_moves_by_as_much(self):
        m = TempoMap.from_beats(
            3.3 + np.cumsum(np.random.default_rng(1).uniform(0.4, 0.6, 60)), -2, Meters.of((1, "3/4"))
        )
        lines = m.bar_seconds(range(1, 18))
        for bars in (0, 1, 2, 4):
            counted, later = smf.with_count_in(m, bars)
            file = smf.write(counted, bar_markers=True).file
            now, found = 0.0, {}
            for message in file:
                now += message.time
                if message.type == "marker" and message.text.startswith("Bar"):
                    found[int(message.text[4:])] = now
            self.assertAlmostEqual(found[1], bars * (lines[1] - lines[0]), places=4)
            np.testing.assert_allclose([found[b] for b in range(1, 18)], lines + later, atol=1e-4)
            ticks = [t for t, m_ in _at_ticks(file) if m_.type == "marker" and m_.text == "Bar 1"]
            self.assertEqual(ticks, [bars * 3 * file.ticks_per_beat])


def _at_ticks(file):
    now = 0
    for message in file.tracks[0]:
        now += message.time
        yield now, message
