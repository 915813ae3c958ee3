"""Files on their way in: whole, broken off, doubled, misnamed, or no sound at all."""

import hashlib
import io
import json
from unittest import mock

import mido
import numpy as np
import soundfile as sf
from django.test import Client

from studio.desk.find_job import FIND
from studio.jobs.models import Job
from studio.library.models import Session, Track, Upload
from studio.library.uploads import LISTEN, clean_name
from tests.shared import digest_of_upload
from tests.studio.base import StudioCase


def sha256(data):
    return hashlib.sha256(data).hexdigest()


class Uploading(StudioCase):
    def announce(self, session, path, name=None):
        return self.post(f"/sessions/{session.pk}/uploads", name=name or path.name, size=path.stat().st_size)

    def put(self, upload, offset, data, digest=None):
        return self.client.put(
            f"/uploads/{upload}?offset={offset}",
            data,
            content_type="application/octet-stream",
            headers={"X-Digest": digest or sha256(data)},
        )

    def finish(self, upload, data):
        return self.post(f"/uploads/{upload}/finish", digest=digest_of_upload(data))

    def send(self, session, path, name=None):
        upload, data = self.announce(session, path, name).json(), path.read_bytes()
        put = self.put(upload["id"], upload["received"], data[upload["received"] :])
        self.assertEqual(put.status_code, 200, put.content)
        return self.finish(upload["id"], data)

    def test_a_file_in_parts_becomes_a_track_and_is_listened_to(self):
        session, path = self.session(), self.wav()
        upload = self.announce(session, path).json()["id"]
        data = path.read_bytes()
        self.assertEqual(self.put(upload, 0, data[:1000]).json(), {"received": 1000})
        self.assertEqual(self.put(upload, 1000, data[1000:]).json(), {"received": len(data)})
        answer = self.finish(upload, data).json()
        track = Track.objects.get(pk=answer["track"])
        self.assertEqual((track.name, track.rate, track.channels), ("kick", 44_100, 1))
        self.assertEqual(track.source.read_bytes(), data)
        self.assertEqual(Job.objects.get().kind, LISTEN)
        self.assertFalse(Upload.objects.filter(outcome__isnull=True).exists())

    def test_a_name_that_is_given_is_kept_as_it_is(self):
        session = self.session()
        track = Track.objects.get(pk=self.send(session, self.wav()).json()["track"])
        for given, kept in (("AC/DC <1>", "AC/DC <1>"), ("  two\n lines ", "two lines"), (" ", "Unnamed")):
            self.post(f"/tracks/{track.pk}", name=given)
            track.refresh_from_db()
            self.assertEqual(track.name, kept)
            self.client.post(f"/sessions/{session.pk}", {"title": given})
            session.refresh_from_db()
            self.assertEqual(session.title, kept)

    def test_what_a_track_is_is_guessed_said_and_undone(self):
        session = self.session()
        track = Track.objects.get(pk=self.send(session, self.wav(), "Snare top.wav").json()["track"])
        self.work(Job.objects.get())
        track.refresh_from_db()
        self.assertEqual((track.role, track.role_given), ("snare", False))
        panel = f"/sessions/{session.pk}/panel/gather"
        self.assertContains(self.client.get(panel), "<option selected>snare</option>", html=True)
        for name, role in (("Floor tom", "toms"), ("Take 2", ""), ("Snare", "snare")):  # it follows a new name
            self.post(f"/tracks/{track.pk}", name=name)
            track.refresh_from_db()
            self.assertEqual((track.role, track.role_given), (role, False))
        self.assertEqual(self.client.post(f"/tracks/{track.pk}", {"role": "toms"}).status_code, 200)
        self.work(Job.objects.create(session=session, kind=LISTEN, track=track))  # a later analysis leaves it
        track.refresh_from_db()
        self.assertEqual((track.role, track.role_given), ("toms", True))
        self.post(f"/tracks/{track.pk}", name="Snare")  # a new name leaves it too
        track.refresh_from_db()
        self.assertEqual(track.role, "toms")
        self.assertContains(self.client.get(panel), "<option selected>toms</option>", html=True)
        self.assertEqual(self.client.post(f"/tracks/{track.pk}", {"role": "trombone <b>"}).status_code, 422)

    def test_before_there_is_a_map_every_stage_says_what_comes_next(self):
        session = self.session()

        def panels():
            return [
                self.client.get(f"/sessions/{session.pk}/panel/{stage}").content.decode()
                for stage in ("gather", "guide", "check", "follow", "reshape", "deliver")
            ]

        for panel in panels():
            self.assertIn("Add tracks", panel)
            self.assertIn("Record a take", panel)
        self.send(session, self.wav())
        for panel in panels()[2:]:
            self.assertIn("are being analysed", panel)
        self.work(Job.objects.get())
        for panel in panels()[2:]:
            self.assertIn("Find the beats", panel)

    def test_an_interrupted_one_goes_on_where_it_stopped(self):
        session, path = self.session(), self.wav()
        data = path.read_bytes()
        first = self.announce(session, path).json()
        self.put(first["id"], 0, data[:5000])
        again = self.announce(session, path).json()
        self.assertEqual(again, {"id": first["id"], "received": 5000, "digest": digest_of_upload(data[:5000])})
        # a part that was sent twice is written to its own place, and one that leaves a gap not at all
        self.assertEqual(self.put(first["id"], 0, data[:5000]).json(), {"received": 5000})
        wrong = self.put(first["id"], 6000, data[6000:])
        self.assertEqual((wrong.status_code, wrong.json()["received"]), (409, 5000))
        self.put(first["id"], 5000, data[5000:])
        self.assertIn("track", self.finish(first["id"], data).json())
        self.assertEqual(Track.objects.get().source.read_bytes(), data)

    def test_a_track_that_comes_later_leaves_the_map_as_it_is(self):
        session = self.mapped()
        Job.objects.all().delete()
        self.send(session, self.wav("later.wav", 3.3 + 0.4 * np.arange(30)))
        self.client.post(f"/sessions/{session.pk}/find?first=1")
        self.assertEqual([j.kind for j in Job.objects.all()], [LISTEN])
        self.client.post(f"/sessions/{session.pk}/find")
        self.assertEqual(sorted(j.kind for j in Job.objects.all()), [FIND, LISTEN])
        fresh = self.session()
        self.client.post(f"/sessions/{fresh.pk}/find?first=1")
        self.assertFalse(fresh.jobs.exists())  # there is nothing yet
        self.send(fresh, self.wav("first.wav"))
        self.client.post(f"/sessions/{fresh.pk}/find?first=1")
        self.assertEqual(sorted(j.kind for j in fresh.jobs.all()), [FIND, LISTEN])

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
        with mock.patch("studio.library.receiving.shutil.disk_usage", return_value=mock.Mock(free=1000)):
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

            def seek(self, place):
                self.file.seek(place)

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
        self.put(upload, 4000, data[4000:])
        self.assertIn("track", self.finish(upload, data).json())

    def test_half_of_another_take_of_the_same_name_and_size_is_told(self):
        session, one = self.session(), self.wav("one.wav").read_bytes()
        other = bytes(b ^ 1 for b in one)
        upload = self.post(f"/sessions/{session.pk}/uploads", name="take.wav", size=len(one)).json()["id"]
        self.put(upload, 0, one[:5000])
        # the page compares this digest with that of its own file, and begins anew
        again = self.post(f"/sessions/{session.pk}/uploads", name="take.wav", size=len(one)).json()
        self.assertEqual(again["digest"], digest_of_upload(one[:5000]))
        self.assertNotEqual(again["digest"], digest_of_upload(other[:5000]))
        fresh = self.post(f"/sessions/{session.pk}/uploads", name="take.wav", size=len(one), fresh=True).json()
        self.assertNotEqual(fresh["id"], upload)
        self.assertEqual(fresh["received"], 0)
        # a page that spliced them all the same gets no track
        self.put(upload, 5000, other[5000:])
        spliced = self.finish(upload, other)
        self.assertEqual(spliced.status_code, 422)
        self.assertIn("did not arrive as it was sent", spliced.json()["error"])
        self.assertEqual(session.tracks.count(), 0)

    def test_a_piece_that_arrived_in_part_is_sent_again_from_its_beginning(self):
        session, path = self.session(), self.wav(times=np.arange(1.0, 59.0))
        data, piece = path.read_bytes(), 2**22
        self.assertGreater(len(data), piece + 2000)
        upload = self.announce(session, path).json()["id"]
        self.put(upload, 0, data[:piece])
        self.put(upload, piece, data[piece : piece + 1000])  # as where the server was killed while it wrote
        again = self.announce(session, path).json()
        self.assertEqual((again["received"], again["digest"]), (piece + 1000, digest_of_upload(data[: piece + 1000])))
        self.assertEqual(self.put(upload, piece - 1, data[piece - 1 :]).status_code, 409)
        self.assertEqual(self.put(upload, piece, data[piece:]).json(), {"received": len(data)})
        self.assertIn("track", self.finish(upload, data).json())
        self.assertEqual(Track.objects.get().source.read_bytes(), data)

    def test_a_part_that_was_damaged_on_its_way_is_not_taken(self):
        session, path = self.session(), self.wav()
        upload = self.announce(session, path).json()["id"]
        damaged = self.put(upload, 0, b"damaged", sha256(b"as sent"))
        self.assertEqual((damaged.status_code, damaged.json()["received"]), (409, 0))
        self.assertEqual(Upload.objects.get().received, 0)

    def test_a_failure_after_the_last_byte_leaves_it_to_be_finished(self):
        session, path = self.session(), self.wav()
        data = path.read_bytes()
        upload = self.announce(session, path).json()["id"]
        self.put(upload, 0, data)
        self.assertEqual(self.announce(session, path).json()["received"], len(data))
        with (
            mock.patch("studio.library.uploads.audio.inspect", side_effect=RuntimeError("of our own making")),
            self.assertLogs("studio", "ERROR"),
        ):
            answer = Client(raise_request_exception=False).post(
                f"/uploads/{upload}/finish",
                json.dumps({"digest": digest_of_upload(data)}),
                content_type="application/json",
            )
        self.assertEqual(answer.status_code, 500)
        self.assertEqual(Upload.objects.get().received, len(data))
        self.assertIn("track", self.finish(upload, data).json())
        self.assertEqual(Track.objects.get().source.read_bytes(), data)
        self.assertEqual(list(session.folder.glob("upload-*")), [])
        # asked for again, as where the answer was lost: the same, and no second track
        again = self.finish(upload, data)
        self.assertEqual((again.status_code, again.json()["track"]), (200, Track.objects.get().pk))

    def test_a_midi_file_with_a_key_that_does_not_exist_is_read_or_refused(self):
        file = mido.MidiFile()
        file.tracks.append(
            mido.MidiTrack([mido.Message("note_on", note=60, velocity=9), mido.Message("note_off", note=60, time=480)])
        )
        out = io.BytesIO()
        file.save(file=out)
        # FF 59 02 with 17 sharps, which the standard does not know, in front of the first note
        data = out.getvalue()
        at = data.index(b"MTrk") + 8
        length = int.from_bytes(data[at - 4 : at], "big") + 6
        bad = data[: at - 4] + length.to_bytes(4, "big") + b"\x00\xff\x59\x02\x11\x00" + data[at:]
        (self.folder / "key.mid").write_bytes(bad)
        session = self.session()
        answer = self.send(session, self.folder / "key.mid")
        self.assertIn(answer.status_code, (200, 422), answer.content)
        self.assertFalse(Upload.objects.filter(outcome__isnull=True).exists())

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
