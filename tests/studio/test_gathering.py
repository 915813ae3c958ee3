"""Files on their way in: whole, broken off, doubled, misnamed, or no sound at all."""

from unittest import mock

import mido
import numpy as np
import soundfile as sf

from studio.desk.find_job import FIND
from studio.jobs.models import Job
from studio.library.models import Session, Track, Upload
from studio.library.uploads import LISTEN, clean_name
from tests.studio.base import StudioCase


class Uploading(StudioCase):
    def announce(self, session, path, name=None):
        return self.post(f"/sessions/{session.pk}/uploads", name=name or path.name, size=path.stat().st_size)

    def put(self, upload, offset, data):
        return self.client.put(f"/uploads/{upload}?offset={offset}", data, content_type="application/octet-stream")

    def send(self, session, path, name=None):
        upload = self.announce(session, path, name).json()
        return self.put(upload["id"], upload["received"], path.read_bytes()[upload["received"] :])

    def test_a_file_in_parts_becomes_a_track_and_is_listened_to(self):
        session, path = self.session(), self.wav()
        upload = self.announce(session, path).json()["id"]
        data = path.read_bytes()
        self.assertEqual(self.put(upload, 0, data[:1000]).json(), {"received": 1000})
        answer = self.put(upload, 1000, data[1000:]).json()
        track = Track.objects.get(pk=answer["track"])
        self.assertEqual((track.name, track.rate, track.channels), ("kick", 44_100, 1))
        self.assertEqual(track.source.read_bytes(), data)
        self.assertEqual(Job.objects.get().kind, LISTEN)
        self.assertEqual(Upload.objects.count(), 0)

    def test_an_interrupted_one_goes_on_where_it_stopped(self):
        session, path = self.session(), self.wav()
        data = path.read_bytes()
        first = self.announce(session, path).json()
        self.put(first["id"], 0, data[:5000])
        again = self.announce(session, path).json()
        self.assertEqual(again, {"id": first["id"], "received": 5000})
        # a part that was sent twice is not written twice
        wrong = self.put(first["id"], 0, data[:5000])
        self.assertEqual((wrong.status_code, wrong.json()["received"]), (409, 5000))
        self.assertIn("track", self.put(first["id"], 5000, data[5000:]).json())
        self.assertEqual(Track.objects.get().source.read_bytes(), data)

    def test_the_same_file_twice_is_said_and_not_doubled(self):
        session, path = self.session(), self.wav()
        self.send(session, path)
        twice = self.send(session, path, "other name.wav")
        self.assertEqual(twice.status_code, 422)
        self.assertIn("already here as “kick”", twice.json()["error"])
        self.assertEqual(session.tracks.count(), 1)

    def test_two_files_of_one_name_are_told_apart(self):
        session = self.session()
        self.send(session, self.wav("a.wav"), "kick.wav")
        self.send(session, self.wav("b.wav", 1 + 0.6 * np.arange(30)), "kick.wav")
        self.assertEqual([t.name for t in session.tracks.all()], ["kick", "kick (2)"])

    def test_names_of_every_kind(self):
        session = self.session()
        for i, name in enumerate(
            ("../../etc/kick.wav", 'he said "go".wav', "🥁 drum 🥁.wav", "x" * 300 + ".wav", "C:\\takes\\bass.wav")
        ):
            path = self.wav(f"{i}.wav", 1 + (0.4 + i / 50) * np.arange(30))
            self.assertIn("track", self.send(session, path, name).json(), name)
        names = [t.name for t in session.tracks.all()]
        self.assertEqual(names[:3], ["kick", 'he said "go"', "🥁 drum 🥁"])
        self.assertLessEqual(len(names[3]), 200)
        self.assertEqual(names[4], "bass")
        for t in session.tracks.all():
            self.assertTrue(t.source.resolve().is_relative_to(session.folder.resolve()))
        page = self.client.get(f"/sessions/{session.pk}/desk").content.decode()
        self.assertNotIn('said "go"</', page)

    def test_what_is_no_sound_is_refused_in_words_and_the_rest_stays(self):
        session = self.session(self.wav())
        text = self.folder / "notes.wav"
        text.write_text("not a sound, though it says so")
        refused = self.send(session, text)
        self.assertEqual(refused.status_code, 422)
        self.assertIn("“notes.wav” is not audio", refused.json()["error"])
        empty = self.folder / "empty.wav"
        empty.write_bytes(b"")
        self.assertIn("no bytes", self.announce(session, empty).json()["error"])
        broken = self.folder / "broken.mid"
        broken.write_bytes(b"MThd nonsense")
        self.assertIn("not a MIDI file", self.send(session, broken).json()["error"])
        self.assertEqual(session.tracks.count(), 1)
        self.assertEqual(list(session.folder.glob("upload-*")), [])

    def test_a_full_disk_keeps_what_has_arrived(self):
        session, path = self.session(), self.wav()
        with mock.patch("studio.library.views.shutil.disk_usage", return_value=mock.Mock(free=1000)):
            self.assertEqual(self.announce(session, path).status_code, 507)
        upload = self.announce(session, path).json()["id"]
        data = path.read_bytes()
        self.put(upload, 0, data[:4000])
        real = Upload.path.fget(Upload.objects.get())

        class Full:
            """A file that takes half a part, then finds no room."""

            def __init__(self, file):
                self.file = file

            def __enter__(self):
                return self

            def __exit__(self, *_):
                self.file.close()

            def write(self, part):
                self.file.write(part[: len(part) // 2])
                self.file.flush()
                raise OSError(28, "No space left on device")

            def truncate(self, size):
                self.file.truncate(size)

        plain = type(real).open
        with mock.patch(
            "pathlib.Path.open",
            lambda p, *a, **k: Full(plain(p, *a, **k)) if p.suffix == ".part" else plain(p, *a, **k),
        ):
            answer = self.put(upload, 4000, data[4000:])
        self.assertEqual(answer.status_code, 507)
        self.assertIn("disk is full", answer.json()["error"])
        self.assertEqual(self.announce(session, path).json()["received"], 4000)
        self.assertIn("track", self.put(upload, 4000, data[4000:]).json())

    def test_mixed_rates_play_at_the_first_one_s(self):
        session = self.session(self.wav("a.wav"), self.wav("b.wav", 1 + 0.5 * np.arange(20), rate=48_000))
        second = session.tracks.last()
        self.assertIn("played beside the others at 44.1 kHz", second.remarks[0])
        self.work(Job.objects.create(session=session, kind=LISTEN, track=second))
        second.refresh_from_db()
        self.assertEqual(sf.info(second.playback).samplerate, 44_100)
        self.assertEqual(sf.info(second.source).samplerate, 48_000)
        self.assertAlmostEqual(sf.info(second.playback).frames, second.frames, delta=2)

    def test_a_midi_performance_is_a_track_that_can_be_heard(self):
        file = mido.MidiFile(ticks_per_beat=480)
        track = mido.MidiTrack()
        for k in range(32):
            track += [
                mido.Message("note_on", note=60 + k % 5, velocity=90, time=0),
                mido.Message("note_off", note=60 + k % 5, time=480),
            ]
        file.tracks.append(track)
        file.save(self.folder / "solo.mid")
        session = self.session(self.folder / "solo.mid")
        job = self.work(Job.objects.create(session=session, kind=FIND))
        self.assertEqual(job.state, Job.State.DONE, job.message)
        found = session.tracks.get()
        self.assertTrue(found.midi)
        self.assertGreater(np.abs(sf.read(found.playback)[0]).max(), 0.1)
        session.refresh_from_db()
        beats = session.step.tempo_map.beats().seconds
        self.assertLess(np.abs(beats - np.round(beats / 0.5) * 0.5).max(), 0.001)

    def test_a_drop_makes_a_session_and_removing_it_removes_its_files(self):
        made = self.post("/sessions/new", title="Evening take").json()
        session = Session.objects.get(pk=made["id"])
        self.send(session, self.wav())
        self.assertTrue(session.folder.exists())
        self.assertEqual(self.client.delete(f"/sessions/{session.pk}").status_code, 200)
        self.assertEqual(self.client.get(f"/sessions/{session.pk}/desk").status_code, 404)
        self.client.post(f"/bin/{session.pk}")  # back out of the bin
        self.assertEqual(self.client.get(f"/sessions/{session.pk}/desk").status_code, 200)
        self.client.delete(f"/sessions/{session.pk}")
        self.assertTrue(session.folder.exists())
        self.client.delete(f"/bin/{session.pk}")
        self.assertFalse(session.folder.exists())

    def test_clean_names(self):
        self.assertEqual(clean_name("\x00\n"), "Unnamed")
        self.assertEqual(clean_name("a/b\\c.wav"), "c.wav")
