"""MIDI files with parts: read with their own bars and seconds, written with the map, read back by two libraries."""

import io
import tempfile
from pathlib import Path
from unittest import TestCase

import mido
import music21
import numpy as np
import symusic

from core.formats import smf
from core.formats.song import PartToWrite, read_song, write_song
from core.notes import ScoreNote, to_seconds
from core.tempomap import Meters, TempoMap


def bytes_of(file):
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


class Writing(TestCase):
    @classmethod
    def setUpClass(cls):
        rng = np.random.default_rng(5)
        cls.map = TempoMap.from_beats(
            2.2 + np.cumsum(0.55 + 0.02 * rng.standard_normal(80)), 0, Meters.of((1, "4/4"), (5, "6/8"))
        )
        cls.riding = [ScoreNote(b, o, 0.5, 36 + b, 70) for b in range(1, 10) for o in (0.0, 1.0, 2.5)]
        cls.clock = [smf.Note(t, t + 0.2, 64, 90) for t in (0.4, 2.5, 7.123, 20.7, 38.2)]
        parts = [
            PartToWrite("Kit", 0, True, cls.riding),
            PartToWrite("Bass", 33, False, cls.riding),
            PartToWrite("Voice", 52, False, cls.clock),
        ]
        cls.data = bytes_of(write_song(smf.write(cls.map), cls.map, parts))

    def times(self, track):
        return np.array(sorted(n.time for n in track.notes))

    def test_symusic_hears_every_note_where_the_map_has_it(self):
        score = symusic.Score.from_midi(self.data, ttype="second")
        kit, bass, voice = score.tracks
        self.assertTrue(kit.is_drum)
        self.assertEqual((bass.program, voice.program), (33, 52))
        meant = np.array(sorted(n.start for n in to_seconds(self.map, self.riding)))
        np.testing.assert_allclose(self.times(bass), meant, atol=1e-4)
        np.testing.assert_allclose(self.times(kit), meant, atol=1e-4)
        # what keeps the clock stands at the nearest tick: half of one lasts some 0.3 ms
        np.testing.assert_allclose(self.times(voice), [n.start for n in self.clock], atol=4e-4)

    def test_music21_counts_the_same_notes_in_the_same_bars(self):
        score = music21.converter.parseData(self.data, format="midi", quantizePost=False)
        bass = next(p for p in score.parts if any(getattr(i, "midiProgram", None) == 33 for i in p.getInstruments()))
        lead = smf.write(self.map).lead_in
        before = lead.quarters(self.map.meters.meter_at(1))
        meant = sorted(float(self.map.meters.bar_quarters(n.bar)) + n.offset + before for n in self.riding)
        found = sorted(float(n.getOffsetInHierarchy(score)) for n in bass.recurse().notes)
        np.testing.assert_allclose(found, meant, atol=1 / 960)

    def test_six_eight_is_written_as_the_standard_s_own_example(self):
        # Standard MIDI Files 1.0, time signature: "6/8 time, where the metronome clicks every three eighth-notes,
        # but there are 24 clocks per quarter-note, 72 to the bar, would be FF 58 04 06 03 24 08" (hexadecimal)
        self.assertIn(bytes.fromhex("FF5804060324 08".replace(" ", "")), self.data)


class Reading(TestCase):
    def song(self, *messages, ppq=480, tracks=()):
        file = mido.MidiFile(type=1, ticks_per_beat=ppq)
        for many in [messages, *tracks]:
            track = mido.MidiTrack()
            track.extend(many)
            file.tracks.append(track)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "song.mid"
            file.save(path)
            return read_song(path)

    def notes(self, *ticks, channel=0, pitch=60):
        out, now = [], 0
        for t in ticks:
            out += [
                mido.Message("note_on", note=pitch, velocity=80, channel=channel, time=t - now),
                mido.Message("note_off", note=pitch, channel=channel, time=120),
            ]
            now = t + 120
        return out

    def test_bars_and_seconds_by_the_file_s_own_map(self):
        # a tempo is microseconds a quarter (RP-001): 500,000 is 120 a minute, 1,000,000 is 60
        tempo = [
            mido.MetaMessage("set_tempo", tempo=500_000),
            mido.MetaMessage("set_tempo", tempo=1_000_000, time=1920),
        ]
        song = self.song(*tempo, tracks=[self.notes(0, 960, 1920, 2400)])
        part = song.parts[0]
        self.assertEqual([n.start for n in part.notes], [0.0, 1.0, 2.0, 3.0])
        self.assertEqual([(n.bar, n.offset) for n in part.score_notes], [(1, 0.0), (1, 2.0), (2, 0.0), (2, 1.0)])
        self.assertEqual(song.tempos, 2)

    def test_its_own_meters(self):
        meter = [
            mido.MetaMessage("time_signature", numerator=3, denominator=4),
            mido.MetaMessage("time_signature", numerator=6, denominator=8, time=2880),
        ]
        song = self.song(*meter, tracks=[self.notes(0, 1440, 2880, 2880 + 1440)])
        self.assertEqual(
            [(n.bar, n.offset) for n in song.parts[0].score_notes], [(1, 0.0), (2, 0.0), (3, 0.0), (4, 0.0)]
        )

    def test_a_part_for_each_channel_with_its_program(self):
        track = [mido.MetaMessage("track_name", name="Both"), mido.Message("program_change", program=33, channel=0)]
        song = self.song(*track, *self.notes(0, 480), *self.notes(0, 480, channel=9, pitch=36))
        self.assertEqual(
            [(p.name, p.program, p.channel) for p in song.parts],
            [("Both, channel 1", 33, 0), ("Both, channel 10", 0, 9)],
        )

    def test_what_we_write_we_read(self):
        m = TempoMap.steady(96, Meters.of((1, "3/4")), 1.7, 12)
        notes = [ScoreNote(b, o, 0.5, 50, 80) for b in range(1, 9) for o in (0.0, 1.5)]
        written = smf.write(m)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "x.mid"
            write_song(written, m, [PartToWrite("P", 25, False, notes)]).save(path)
            part = read_song(path).parts[0]
        self.assertEqual([n.offset for n in part.score_notes], [n.offset for n in notes])
        self.assertEqual({n.bar - p.bar for n, p in zip(part.score_notes, notes, strict=True)}, {written.lead_in.bars})
        self.assertEqual(part.program, 25)
        np.testing.assert_allclose([n.start for n in part.notes], [n.start for n in to_seconds(m, notes)], atol=1e-4)

    def test_no_notes_and_no_midi(self):
        with self.assertRaisesRegex(smf.MidiError, "no notes"):
            self.song(mido.MetaMessage("set_tempo", tempo=500_000))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "letter.mid"
            path.write_text("dear engineer")
            with self.assertRaisesRegex(smf.MidiError, "not a MIDI file"):
                read_song(path)
