"""Parts through the page's own addresses: tied, edited, streamed, delivered."""

import io
import json

import mido
import numpy as np
import soundfile as sf
from django.core.files.uploadedfile import SimpleUploadedFile

from core.formats import smf, wavloop
from core.instruments.stream import render_block
from core.instruments.strokes import strokes_of
from core.notes import Note, to_seconds
from studio.library.models import Session
from studio.library.uploads import add_track
from studio.parts import sound_sets
from studio.parts.models import Part
from studio.parts.sound import _loop, _notes
from studio.parts.sound_sets import player_of
from tests.core.sound_fonts import Tone, sound_font
from tests.studio.base import PreparedCase


def midi_file(*ticks, tempo=500_000):
    file = mido.MidiFile(ticks_per_beat=480)
    track = mido.MidiTrack(
        [mido.MetaMessage("track_name", name="Bass line"), mido.MetaMessage("set_tempo", tempo=tempo)]
    )
    track.append(mido.Message("program_change", program=33))
    now = 0
    for t in ticks:
        track += [
            mido.Message("note_on", note=40, velocity=90, time=t - now),
            mido.Message("note_off", note=40, time=240),
        ]
        now = t + 240
    file.tracks.append(track)
    out = io.BytesIO()
    file.save(file=out)
    return SimpleUploadedFile("line.mid", out.getvalue())


class Parts(PreparedCase):
    def prepare(self):
        self.session_ = self.mapped()
        self.url = f"/sessions/{self.session_.pk}"

    def setUp(self):
        super().setUp()
        _notes.cache_clear()
        _loop.cache_clear()

    def lay(self, **more):
        said = {"pattern": "Boardwalk", "from": "1", "to": "6", "fill": "4", **more}
        return self.client.post(f"{self.url}/parts/pattern", said)

    def part(self):
        return Part.objects.get()

    def drawn(self):
        return self.client.get(f"{self.url}/parts").json()["parts"]

    def move_a_beat(self, beat=4, to=0.03):
        self.session_.refresh_from_db()
        t = float(self.session_.step.tempo_map.seconds_of_beat(beat))
        answer = self.post(
            f"{self.url}/edit",
            step=self.session_.step_id,
            kind="move",
            beat=beat,
            to=t + to,
            reach="beat",
            snap_within=0,
        )
        self.assertEqual(answer.status_code, 200, answer.content[:300])
        self.session_.refresh_from_db()

    def test_after_an_edit_riding_notes_stand_within_a_sample_of_the_map(self):
        self.lay()
        before = self.drawn()[0]["start"]
        self.move_a_beat()
        after = self.drawn()[0]["start"]
        m, part = self.session_.step.tempo_map, self.part()
        meant = [n.start for n in to_seconds(m, part.step.stored())]
        self.assertLess(np.abs(np.array(after) - meant).max(), 1 / self.session_.rate)
        self.assertNotEqual(before, after)
        self.assertGreater(self.drawn()[0]["largest"], 25)  # the other tie would have stayed

    def test_after_an_edit_what_keeps_the_clock_is_bit_identical(self):
        self.lay()
        self.client.post(f"/parts/{self.part().pk}/act", {"ties": "clock"})
        kept, before = self.part().step.notes, self.drawn()[0]
        self.move_a_beat()
        self.assertEqual(self.part().step.notes, kept)
        after = self.drawn()[0]
        self.assertEqual(after["start"], before["start"])
        self.assertGreater(after["largest"], 25)

    def test_changing_the_tie_moves_nothing_now(self):
        self.lay()
        before = np.array(self.drawn()[0]["start"])
        for ties in ("clock", "bars"):
            self.client.post(f"/parts/{self.part().pk}/act", {"ties": ties})
            np.testing.assert_allclose(self.drawn()[0]["start"], before, atol=1e-9)

    def test_a_part_is_streamed_like_a_track(self):
        self.lay()
        track, part = self.session_.tracks.get(), self.part()
        url = f"{self.url}/blocks/3?tracks={track.pk}&parts={part.pk}"
        block = np.frombuffer(self.client.get(url).content, np.float32)
        size = len(block) // 3  # a track of one channel, a part of two
        strokes = strokes_of(part.step.notes_in_seconds(self.session_.step.tempo_map), "drums")
        rendered = render_block(strokes, player_of(part), self.session_.rate, 3 * size, size)
        np.testing.assert_array_equal(block[size:], rendered.T.ravel())
        self.assertTrue(block[size:].any())
        self.assertEqual(self.client.get(f"{self.url}/blocks/3?tracks={track.pk}&parts=999").status_code, 404)

    def test_a_midi_file_by_its_bars_and_by_its_seconds(self):
        self.client.post(f"{self.url}/parts/bring", {"file": midi_file(0, 960, 1920), "right": "bars", "at": "3"})
        part = self.part()
        self.assertEqual((part.name, part.instrument, part.program), ("Bass line", "bass", 33))
        m = self.session_.step.tempo_map
        meant = [float(m.seconds_at(m.meters.bar_quarters(b) + o)) for b, o in ((3, 0), (3, 2), (4, 0))]
        np.testing.assert_allclose(self.drawn()[0]["start"], meant, atol=1e-9)
        part.delete()
        self.client.post(f"{self.url}/parts/bring", {"file": midi_file(0, 960, 1920), "right": "seconds"})
        self.assertEqual(self.drawn()[0]["start"], [0.0, 1.0, 2.0])
        self.assertFalse(self.part().step.rides)

    def test_files_that_are_no_midi_leave_everything_as_it_is(self):
        for file, words in (
            (SimpleUploadedFile("a.mid", b"dear engineer"), "not a MIDI file"),
            (None, "Choose a MIDI file"),
        ):
            answer = self.client.post(f"{self.url}/parts/bring", {"file": file} if file else {})
            self.assertContains(answer, words, status_code=422)
        self.assertEqual(Part.objects.count(), 0)

    def test_what_a_keyboard_sent_becomes_a_part_that_keeps_the_clock(self):
        sent = self.client.get(f"{self.url}/parts/simulated?from=2&to=5").json()["messages"]
        answer = self.post(f"{self.url}/parts/record", messages=sent, end=15.0)
        self.assertEqual(answer.json()["notes"], len(self.drawn()[0]["start"]))
        self.assertFalse(self.part().step.rides)
        self.assertEqual(self.post(f"{self.url}/parts/record", messages=[]).status_code, 422)
        self.assertEqual(self.post(f"{self.url}/parts/record", messages=[["x"]]).status_code, 422)

    def test_patterns_refuse_what_cannot_be(self):
        for more in ({"pattern": "none"}, {"from": "9", "to": "2"}, {"from": "x"}, {"to": "99999"}):
            self.assertEqual(self.lay(**more).status_code, 422, more)
        self.assertEqual(Part.objects.count(), 0)

    def test_taken_out_and_brought_back(self):
        self.lay()
        url = f"/parts/{self.part().pk}/act"
        self.assertContains(self.client.post(url, {"out": "1"}), "Taken out")
        self.assertEqual(self.drawn(), [])
        self.client.post(url, {"back": "1"})
        self.assertEqual(len(self.drawn()), 1)

    # ---- the roll

    def roll(self, **said):
        part = self.part()
        part.refresh_from_db()
        return self.post(f"/parts/{part.pk}/roll", step=part.step_id, first=1, bars=2, grid=0.25, **said)

    def test_a_bass_line_is_written_undone_and_done_again(self):
        self.client.post(f"{self.url}/parts/empty", {"instrument": "bass"})
        for k in range(4):
            self.roll(do="add", bar=1, offset=k, length=0.5, pitch=40 + k, velocity=90)
        data = self.roll(do="move", notes=[0], columns=2, semitones=12).json()
        self.assertEqual(data["notes"][0]["q"], 0.5)
        self.assertEqual(data["notes"][0]["pitch"], 52)
        data = self.roll(do="lengthen", notes=[1], columns=4).json()
        self.assertEqual(data["notes"][1]["length"], 1.0)
        data = self.roll(do="repeat", **{"from": 1, "to": 1, "times": 1}).json()
        self.assertEqual(len(data["notes"]), 8)
        for by, count in ((-1, 4), (1, 8)):
            step = Session.objects.get(pk=self.part().session_id).step_id
            self.post(f"{self.url}/undo", by=by, step=step)
            self.assertEqual(len(self.part().now.stored()), count)
        self.assertEqual(len(self.roll(do="remove", notes=[0, 1]).json()["notes"]), 6)
        self.assertEqual(Session.objects.get(pk=self.part().session_id).step.name, "Bass: Removed notes")

    def test_two_windows_do_not_overwrite_each_other(self):
        self.client.post(f"{self.url}/parts/empty", {"instrument": "bass"})
        old = self.part().step_id
        note = {"do": "add", "bar": 1, "offset": 0, "length": 1, "pitch": 40, "velocity": 90, "grid": 0.25}
        self.assertEqual(self.post(f"/parts/{self.part().pk}/roll", step=old, **note).status_code, 200)
        answer = self.post(f"/parts/{self.part().pk}/roll", step=old, **note)
        self.assertEqual(answer.status_code, 409)
        self.assertEqual(len(answer.json()["notes"]), 1)

    def test_an_edit_of_one_note_leaves_the_clocked_others_bit_identical(self):
        sent = self.client.get(f"{self.url}/parts/simulated?from=2&to=5").json()["messages"]
        self.post(f"{self.url}/parts/record", messages=sent, end=15.0)
        before = json.loads(self.part().step.notes)
        self.roll(do="move", notes=[2], columns=1)
        after = json.loads(Part.objects.get().step.notes)
        self.assertEqual([a == b for a, b in zip(before, after, strict=True)].count(False), 1)

    def test_quantise_is_previewed_then_done(self):
        sent = self.client.get(f"{self.url}/parts/simulated?from=2&to=5").json()["messages"]
        self.post(f"{self.url}/parts/record", messages=sent, end=15.0)
        step = self.part().step_id
        asked = {"do": "quantise", "strength": 100, "window": 100}
        ghost = self.roll(**asked, preview=True).json()["notes"]
        self.assertEqual(self.part().step_id, step)
        done = self.roll(**asked).json()["notes"]
        np.testing.assert_allclose([n["q"] for n in done], [n["q"] for n in ghost], atol=1e-9)
        for n in done:
            self.assertAlmostEqual(n["q"] * 4, round(n["q"] * 4), delta=1e-6)

    def test_what_cannot_be_is_said(self):
        self.client.post(f"{self.url}/parts/empty", {"instrument": "bass"})
        for said in (
            {"do": "add", "bar": 1, "offset": 0, "length": 0, "pitch": 40, "velocity": 9},
            {"do": "add", "bar": 1, "offset": 0, "length": 1, "pitch": 400, "velocity": 9},
            {"do": "quantise", "strength": 300},
            {"do": "fly"},
        ):
            answer = self.roll(**said)
            self.assertEqual(answer.status_code, 422, said)
            self.assertTrue(answer.json()["error"])

    def test_a_performance_s_notes_are_taken_over_exactly(self):
        notes = [Note(1.0 + 0.51 * k, 1.4 + 0.51 * k, 60 + k, 80) for k in range(8)]
        path = self.folder / "solo.mid"
        smf.write_notes(notes).save(path)
        track = add_track(self.session_, path, path.name)
        self.assertEqual(self.client.post(f"{self.url}/parts/take-over", {"track": track.pk}).status_code, 200)
        np.testing.assert_allclose(self.drawn()[0]["start"], [n.start for n in notes], atol=5e-4)
        audio = self.session_.tracks.exclude(pk=track.pk).get()
        self.assertEqual(self.client.post(f"{self.url}/parts/take-over", {"track": audio.pk}).status_code, 404)

    # ---- audio loops, notation, delivery

    def loop_file(self, beats=4):
        t = np.arange(int(44_100 * 0.5 * beats)) / 44_100
        x = np.where(t % 0.5 < 0.01, 0.8, 0.0) * np.cos(2 * np.pi * 900 * t)
        out = io.BytesIO()
        sf.write(out, x, 44_100, format="WAV")
        return SimpleUploadedFile("shaker loop.wav", out.getvalue())

    def test_an_audio_loop_follows_the_bars(self):
        said = {"file": self.loop_file(), "beats": "4", "from": "1", "to": "4"}
        self.assertEqual(self.client.post(f"{self.url}/parts/loop", said).status_code, 200)
        part, rate = self.part(), self.session_.rate
        self.assertEqual((part.name, part.is_loop, part.beats), ("shaker loop", True, 4))
        self.move_a_beat(beat=5)
        blocks = [
            np.frombuffer(self.client.get(f"{self.url}/blocks/{n}?parts={part.pk}").content, np.float32)
            for n in range(int(10 * rate / 16_384))
        ]
        x = np.concatenate([b.reshape(2, -1)[0] for b in blocks])
        loud = np.flatnonzero(np.abs(x) > 0.5)
        starts = loud[np.concatenate([[True], np.diff(loud) > 0.1 * rate])] / rate
        beats = self.session_.step.tempo_map.beats(0, 15).seconds
        np.testing.assert_allclose(starts[:12], beats[:12], atol=0.002)
        for bad in ({"beats": "x"}, {"beats": "0"}, {"from": "9", "to": "1"}):
            answer = self.client.post(f"{self.url}/parts/loop", {**said, "file": self.loop_file(), **bad})
            self.assertEqual(answer.status_code, 422, bad)
        self.assertEqual(Part.objects.count(), 1)

    def test_a_stereo_loop_stays_stereo(self):
        t = np.arange(2 * 44_100) / 44_100
        strokes = np.where(t % 0.5 < 0.01, 0.8, 0.0) * np.cos(2 * np.pi * 900 * t)
        left, right = strokes * (t < 1), strokes * (t >= 1)
        out = io.BytesIO()
        sf.write(out, np.stack([left, right], axis=1), 44_100, format="WAV")
        file = SimpleUploadedFile("two sides.wav", out.getvalue())
        said = {"file": file, "beats": "4", "from": "1", "to": "4"}
        self.assertEqual(self.client.post(f"{self.url}/parts/loop", said).status_code, 200)
        part, rate = self.part(), self.session_.rate
        data = b"".join(self.client.get(f"{self.url}/deliver/part/{part.pk}.wav").streaming_content)
        x, _ = sf.read(io.BytesIO(data), dtype="float32")
        beats = self.session_.step.tempo_map.beats(0, 16).seconds
        first, third = (
            np.abs(x[round((b - 0.02) * rate) : round((b + 0.05) * rate)]).max(axis=0) for b in beats[0:3:2]
        )
        self.assertGreater(first[0], 10 * first[1])
        self.assertGreater(third[1], 10 * third[0])

    # ---- who plays

    def undo_once(self):
        self.post(f"{self.url}/undo", by=-1, step=Session.objects.get(pk=self.session_.pk).step_id)

    def test_a_sound_set_is_chosen_undone_and_of_ones_own(self):
        self.lay()
        self.assertContains(self.client.get(f"{self.url}/parts/panel"), "Fluid R3 (sampled)")
        part = self.part()
        block = lambda: self.client.get(f"{self.url}/blocks/3?parts={part.pk}").content  # noqa: E731
        sampled = block()
        self.assertEqual(self.client.post(f"{self.url}/parts/sounds", {"sounds": "built-in"}).status_code, 200)
        self.assertNotEqual(block(), sampled)
        self.undo_once()
        self.assertEqual(block(), sampled)
        sound_sets.folder().mkdir(exist_ok=True)
        own = sound_sets.folder() / "mine.sf2"
        own.write_bytes(b"no set at all, but long enough")
        answer = self.client.post(f"{self.url}/parts/sounds", {"sounds": "mine.sf2"})
        self.assertContains(answer, "This is no SoundFont", status_code=422)
        self.assertEqual(block(), sampled)
        tone = np.sin(2 * np.pi * 440 * np.arange(20_000) / 48_000)
        own.write_bytes(sound_font([Tone(tone, bank=128)]))
        self.assertContains(self.client.post(f"{self.url}/parts/sounds", {"sounds": "mine.sf2"}), "mine.sf2")
        self.assertNotEqual(block(), sampled)
        own.unlink()  # a set that went away: the one that ships
        self.assertEqual(block(), sampled)
        answer = self.client.post(f"{self.url}/parts/sounds", {"sounds": "../secret.sf2"})
        self.assertContains(answer, "There is no such sound set", status_code=422)

    def test_another_instrument_brings_its_program(self):
        self.client.post(f"{self.url}/parts/empty", {"instrument": "keys"})
        part = self.part()
        self.client.post(f"/parts/{part.pk}/act", {"instrument": "strings"})
        part.refresh_from_db()
        self.assertEqual((part.instrument, part.program), ("strings", 48))
        self.undo_once()
        part.refresh_from_db()
        self.assertEqual((part.instrument, part.program), ("keys", 0))

    def test_notation_before_and_with_the_map(self):
        sent = self.client.get(f"{self.url}/parts/simulated?from=1&to=8").json()["messages"]
        self.post(f"{self.url}/parts/record", messages=sent, end=18.0)
        page = self.client.get(f"{self.url}/score").content.decode()
        self.assertEqual(page.count("<svg"), page.count("</svg>"))
        self.assertIn("With the map", page)
        self.assertGreater(page.count('class="note"'), 20)
        document = self.client.get(f"{self.url}/score.musicxml").content.decode()
        self.assertEqual(document.count("<measure "), self.session_.step.tempo_map.bar_range[1])

    def test_nothing_to_write_down(self):
        self.assertContains(self.client.get(f"{self.url}/score"), "nothing to write down")
        self.assertEqual(self.client.get(f"{self.url}/score.musicxml").status_code, 422)

    def test_map_and_parts_as_one_midi_file(self):
        self.lay()
        data = b"".join(self.client.get(f"{self.url}/deliver/file/song.mid").streaming_content)
        file, now, found = mido.MidiFile(file=io.BytesIO(data)), 0.0, []
        for m in file:
            now += m.time
            if m.type == "note_on":
                found.append(now)
        np.testing.assert_allclose(sorted(found), sorted(self.drawn()[0]["start"]), atol=1e-4)

    def test_a_part_is_delivered_as_it_sounds(self):
        self.lay()
        part = self.part()
        data = b"".join(self.client.get(f"{self.url}/deliver/part/{part.pk}.wav").streaming_content)
        x, rate = sf.read(io.BytesIO(data), dtype="float32")
        self.assertEqual(len(x), round(self.session_.seconds * rate))
        strokes = strokes_of(part.step.notes_in_seconds(self.session_.step.tempo_map), "drums")
        whole = render_block(strokes, player_of(part), rate, 0, len(x))
        np.testing.assert_allclose(x, whole / max(1, np.abs(whole).max()), atol=2**-22)

    def test_a_loop_is_cut_exactly_on_its_lines(self):
        track = self.session_.tracks.get()
        m, rate = self.session_.step.tempo_map, self.session_.rate
        data = b"".join(self.client.get(f"{self.url}/deliver/loop.wav?from=3&to=4&track={track.pk}").streaming_content)
        x, _ = sf.read(io.BytesIO(data), dtype="float32")
        start, end = (round(float(m.bar_seconds(b)) * rate) for b in (3, 5))
        source, _ = sf.read(track.playback, dtype="float32")
        np.testing.assert_allclose(x, source[start:end], atol=2**-22)
        read = wavloop.read(data)
        self.assertEqual([n for _, n in read.lines], ["Bar 3", "Bar 4"])
        self.assertIn("2 bars, 8 beats in 4/4", read.words)
        self.assertAlmostEqual(float(read.words.split(", ")[-1].split()[0]), 120, delta=0.1)
        mix = b"".join(self.client.get(f"{self.url}/deliver/loop.wav?from=3&to=4").streaming_content)
        self.assertEqual(sf.read(io.BytesIO(mix))[0].shape, (end - start, 2))
        for bad in ("from=9&to=2", "from=x&to=2", "from=1&to=4&track=999", "from=900&to=901"):
            self.assertEqual(self.client.get(f"{self.url}/deliver/loop.wav?{bad}").status_code, 422, bad)
