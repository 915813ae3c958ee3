"""What the files of tracks bring along: many channels, a whole mix, the time at which they start."""

import hashlib

import numpy as np
import soundfile as sf

from core.audio import chunks
from core.formats.carried import riff
from studio.analysis import features, laying_out
from studio.jobs.models import Job
from studio.library.uploads import LISTEN
from tests.shared import digest_of_upload
from tests.studio.base import StudioCase


class ManyChannels(StudioCase):
    def send(self, session, path):
        data = path.read_bytes()
        going = self.post(f"/sessions/{session.pk}/uploads", name=path.name, size=len(data)).json()["id"]
        digest = hashlib.sha256(data).hexdigest()
        self.client.put(
            f"/uploads/{going}?offset=0",
            data,
            content_type="application/octet-stream",
            headers={"X-Digest": digest},
        )
        return self.post(f"/uploads/{going}/finish", digest=digest_of_upload(data))

    def test_a_file_of_many_channels_becomes_a_track_a_channel(self):
        sound = np.random.default_rng(1).uniform(-0.5, 0.5, (44_100, 3))
        path = self.folder / "Lantern take 3.wav"
        sf.write(path, sound, 44_100, "PCM_24")
        made = self.session(title="poly")
        answer = self.send(made, path).json()
        self.assertIn("tracks", answer, answer)
        self.assertEqual(len(answer["tracks"]), 3)
        self.assertEqual([t.channels for t in made.tracks.all()], [1, 1, 1])
        self.assertEqual(Job.objects.filter(session=made, kind=LISTEN).count(), 3)
        whole = sf.read(path)[0]
        for k, track in enumerate(made.tracks.order_by("pk")):
            np.testing.assert_array_equal(sf.read(track.source)[0], whole[:, k])
        again = self.send(made, path)
        self.assertEqual(again.status_code, 422)
        self.assertIn("already here", again.json()["error"])

    def test_bw64_is_read_as_the_rf64_that_it_is(self):
        """ITU-R BS.2088: the layout of RF64 under another name."""
        path = self.folder / "broadcast.wav"
        sound = np.random.default_rng(1).uniform(-0.5, 0.5, (44_100, 1))
        sf.write(path, sound, 44_100, "PCM_24", format="RF64")
        data = bytearray(path.read_bytes())
        data[:4] = b"BW64"
        path.write_bytes(data)
        made = self.session(title="BW64")
        self.assertEqual(self.send(made, path).status_code, 200)
        np.testing.assert_allclose(sf.read(made.tracks.get().source)[0], sound[:, 0], atol=2**-23)

    def test_two_channels_are_one_stereo_track(self):
        path = self.folder / "room.wav"
        sf.write(path, np.random.default_rng(1).uniform(-0.5, 0.5, (44_100, 2)), 44_100)
        made = self.session(title="stereo")
        self.send(made, path)
        self.assertEqual([t.channels for t in made.tracks.all()], [2])


class TakingApart(StudioCase):
    def test_the_strokes_and_tones_of_a_mix_become_tracks_that_are_muted(self):
        t = np.arange(44_100 * 6) / 44_100
        strokes, _ = sf.read(self.wav("kick.wav", 1 + 0.5 * np.arange(10)))
        whole = 0.2 * np.sin(2 * np.pi * 330 * t)
        whole[: len(strokes)] += 0.5 * strokes[: len(whole)]
        path = self.folder / "mix.wav"
        sf.write(path, whole, 44_100, "PCM_24")
        made = self.session(path)
        mix = made.tracks.get()
        self.assertEqual(self.client.post(f"/tracks/{mix.pk}/apart").status_code, 200)
        self.assertEqual(self.work(Job.objects.get(kind="separate")).state, "done")
        names = list(made.tracks.order_by("pk").values_list("name", "muted"))
        self.assertEqual(names, [("mix", False), ("mix strokes", True), ("mix tones", True)])
        parts = [sf.read(track.source)[0] for track in made.tracks.order_by("pk")[1:]]
        np.testing.assert_allclose(sum(parts), sf.read(path)[0], atol=1e-6)
        for job in Job.objects.filter(kind=LISTEN):
            self.assertEqual(self.work(job).state, "done")
        again = self.work(Job.objects.create(session=made, track=mix, kind="separate"))
        self.assertIn("taken apart already", again.message)
        self.assertEqual(made.tracks.count(), 3)


class LayingOut(StudioCase):
    """Broadcast WAV, EBU Tech 3285: TimeReference counts samples since midnight."""

    def stamped(self, name, times, start):
        path = self.wav(name, times)
        body = bytearray(riff._bext("Reel"))
        body[338:346] = round(start * 44_100).to_bytes(8, "little")
        data = bytearray(path.read_bytes()) + chunks.packed(b"bext", bytes(body))
        data[4:8] = (len(data) - 8).to_bytes(4, "little")
        path.write_bytes(data)
        return path

    def listened(self, session):
        for job in Job.objects.filter(session=session, kind=LISTEN, state="waiting"):
            self.assertEqual(self.work(job).state, "done")

    def test_tracks_are_placed_where_their_files_say_that_they_start(self):
        ten = 10 * 3600
        beats = 3 + 0.5 * np.arange(40)
        first = self.stamped("kick.wav", beats, ten)
        second = self.stamped("late.wav", beats[6:] - 1.75, ten + 1.75)
        made = self.session(first, second, self.wav("none.wav", 1 + 0.4 * np.arange(20)))
        told = [(s.track.name, s.seconds) for s in laying_out.starts(made)]
        self.assertEqual([n for n, _ in told], ["kick", "late", "none"])
        np.testing.assert_allclose([s for _, s in told[:2]], [0, 1.75])
        self.assertIsNone(told[2][1])
        for track in made.tracks.all():
            self.work(Job.objects.create(session=made, track=track, kind=LISTEN))
        page = self.client.get(f"/sessions/{made.pk}/panel/gather")
        self.assertContains(page, "starts 1.750 s after the first")
        self.client.post(f"/sessions/{made.pk}/lay-out")
        self.listened(made)
        late = made.tracks.get(name="late")
        self.assertTrue(late.analysed)
        self.assertAlmostEqual(late.seconds, sf.info(second).duration + 1.75, places=6)
        source, played = sf.read(late.source)[0], sf.read(late.playback)[0]
        lead = round(1.75 * 44_100)
        self.assertFalse(played[:lead].any())
        np.testing.assert_allclose(played[lead:], source, atol=2**-22)
        at = features.attacks(late).seconds
        self.assertLess(np.abs(at[:, None] - beats).min(axis=1).max(), 0.004)
        self.assertFalse(laying_out.lay_out(made, True))
        # and back
        self.client.post(f"/sessions/{made.pk}/lay-out", {"together": "1"})
        self.listened(made)
        late = made.tracks.get(name="late")
        self.assertEqual((late.offset, late.playback), (0, late.source))

    def test_over_midnight(self):
        made = self.session(
            self.stamped("a.wav", 1 + 0.5 * np.arange(9), 24 * 3600 - 2),
            self.stamped("b.wav", 1 + 0.4 * np.arange(9), 3),
        )
        np.testing.assert_allclose([s.seconds for s in laying_out.starts(made)], [0, 5])

    def test_stamps_that_say_nothing_are_not_offered(self):
        for a, b in ((100, 100), (100, 100 + 8 * 3600)):
            made = self.session(
                self.stamped("a.wav", 1 + 0.5 * np.arange(9), a), self.stamped("b.wav", 1 + 0.4 * np.arange(9), b)
            )
            self.assertEqual(laying_out.starts(made), [])
            self.assertNotContains(self.client.get(f"/sessions/{made.pk}/panel/gather"), "Start times")
