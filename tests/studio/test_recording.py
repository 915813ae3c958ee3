"""Recording: passes arrive in pieces, become tracks in their place, and are alternatives to each other."""

from datetime import timedelta
from unittest import mock

import numpy as np
import soundfile as sf
from django.utils import timezone

from core.audio.loopback import burst
from studio.actors import corrects
from studio.jobs.models import Job
from studio.library.models import Session, Track
from studio.recording.map_so_far import MAP_SO_FAR
from studio.recording.models import CUT_OFF, Recording
from studio.recording.views import RESERVE
from studio.server.housekeeping import clear_away
from tests.studio.base import StudioCase

RATE = 44_100


class Recordings(StudioCase):
    def setUp(self):
        super().setUp()
        self.session_ = self.session()
        self.url = f"/sessions/{self.session_.pk}"

    def begin(self, starts=0.0, channels=1, name="", session=None):
        url = f"/sessions/{(session or self.session_).pk}/recordings"
        answer = self.post(url, name=name, rate=RATE, channels=channels, starts=starts)
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()["id"]

    def put(self, pk, at, x):
        data = np.asarray(x, dtype="<f4").tobytes()
        return self.client.put(f"/recordings/{pk}?from={at}", data, content_type="application/octet-stream")

    def record(self, x, **options):
        pk = self.begin(**options)
        for at in range(0, len(x), 10_000):
            self.assertEqual(self.put(pk, at, x[at : at + 10_000]).json()["frames"], min(len(x), at + 10_000))
        ended = self.client.post(f"/recordings/{pk}/end")
        self.assertEqual(ended.status_code, 200, ended.content)
        return Recording.objects.get(pk=pk)

    def take(self, seed=1, seconds=1.0):
        return np.random.default_rng(seed).uniform(-0.5, 0.5, round(seconds * RATE)).astype(np.float32)

    def test_a_take_becomes_a_track_to_the_bit(self):
        x = self.take()
        made = self.record(x)
        np.testing.assert_array_equal(sf.read(made.track.source, dtype="float32")[0], x)
        self.session_.refresh_from_db()
        self.assertEqual((self.session_.rate, made.track.offset, made.track.name), (RATE, 0.0, "Take"))
        self.assertTrue(Job.objects.filter(track=made.track, kind="listen").exists())
        self.assertFalse(made.path.exists())
        again = self.client.post(f"/recordings/{made.pk}/end")  # no answer came the first time
        self.assertEqual(again.json()["track"], made.track.pk)
        self.assertEqual(self.session_.tracks.count(), 1)

    def test_a_pass_lies_where_it_was_played(self):
        self.record(self.take())
        late = self.record(self.take(2, 0.5), starts=0.25)
        self.assertEqual(late.track.offset, 0.25)
        self.assertAlmostEqual(late.track.seconds, 0.75, 6)

    def test_of_the_passes_of_one_name_the_newest_sounds_until_another_is_chosen(self):
        first, second = self.record(self.take(1)), self.record(self.take(2))
        other = self.record(self.take(3), name="Voice")
        made = [r.track_id for r in (first, second, other)]
        muted = Track.objects.order_by("pk").filter(pk__in=made).values_list("muted", flat=True)
        self.assertEqual(list(muted.all()), [True, False, False])
        self.assertEqual(self.client.post(f"/recordings/{first.pk}/activate").status_code, 204)
        self.assertEqual(list(muted.all()), [False, True, False])
        self.assertContains(self.client.get(f"{self.url}/record"), "Use Take (2)")

    def test_samples_sent_twice_are_kept_once_and_gaps_are_refused(self):
        x, pk = self.take(), self.begin()
        self.put(pk, 0, x[:5000])
        self.assertEqual(self.put(pk, 0, x[:5000]).json()["frames"], 5000)
        gap = self.put(pk, 6000, x[6000:7000])
        self.assertEqual((gap.status_code, gap.json()["frames"]), (409, 5000))
        self.put(pk, 5000, x[5000:])
        self.client.post(f"/recordings/{pk}/end")
        np.testing.assert_array_equal(sf.read(self.session_.tracks.get().source, dtype="float32")[0], x)

    def test_a_full_disk_leaves_room_for_the_database_and_the_samples_where_they_are(self):
        x, pk = self.take(), self.begin()
        with mock.patch("studio.disk.shutil.disk_usage", return_value=mock.Mock(free=RESERVE - 1)):
            self.assertEqual(self.post(f"{self.url}/recordings", rate=RATE, channels=1, starts=0).status_code, 507)
            refused = self.put(pk, 0, x)
        self.assertEqual(refused.status_code, 507)
        self.assertIn("The disk is full", refused.json()["error"])
        self.assertEqual(self.put(pk, 0, x).json()["frames"], len(x))

    def test_a_pass_that_was_cut_off_is_kept_with_all_that_arrived(self):
        x, pk = self.take(), self.begin(starts=1.5)
        self.put(pk, 0, x)
        self.assertNotContains(self.client.get(f"{self.url}/record"), "cut off")
        Recording.objects.filter(pk=pk).update(last_samples=timezone.now() - timedelta(seconds=CUT_OFF + 1))
        self.assertContains(self.client.get(f"{self.url}/record"), "cut off")
        token = corrects.set(False)  # whoever may only listen is not made to ask for what is refused
        self.assertNotContains(self.client.get(f"{self.url}/record"), "cut off")
        corrects.reset(token)
        self.assertEqual(self.client.post(f"{self.url}/record/cut-off").status_code, 204)
        track = self.session_.tracks.get()
        self.assertEqual((track.offset, track.remarks[-1][:26]), (1.5, "The recording was cut off "))
        np.testing.assert_array_equal(sf.read(track.source, dtype="float32")[0], x)

    def test_housekeeping_ends_what_nobody_came_back_to(self):
        pk = self.begin()
        self.put(pk, 0, self.take())
        clear_away()
        self.assertFalse(self.session_.tracks.exists())  # it may still go on
        Recording.objects.update(last_samples=timezone.now() - timedelta(hours=1))
        clear_away()
        self.assertTrue(self.session_.tracks.exists())

    def test_nothing_recorded_makes_nothing(self):
        answer = self.client.post(f"/recordings/{self.begin()}/end")
        self.assertEqual((answer.status_code, answer.json()["error"]), (422, "Nothing was recorded."))
        self.assertFalse(self.session_.tracks.exists())

    def test_a_pass_that_is_over_takes_no_more(self):
        made = self.record(self.take())
        self.assertEqual(self.put(made.pk, 0, self.take()).status_code, 410)
        self.assertEqual(self.client.post(f"/recordings/{made.pk}/look").status_code, 410)

    def test_odd_requests_are_refused_in_a_sentence(self):
        right = {"rate": RATE, "channels": 1, "starts": 0}
        for odd in ({"rate": 10}, {"channels": 0}, {"starts": -1}, {"starts": 1e300}):
            self.assertEqual(self.post(f"{self.url}/recordings", **{**right, **odd}).status_code, 422, odd)
        pk = self.begin()
        odd = self.client.put(f"/recordings/{pk}?from=0", b"12345", content_type="application/octet-stream")
        self.assertEqual(odd.status_code, 400)
        self.assertEqual(self.put(pk, "x", [0.0]).status_code, 422)

    def test_the_map_so_far_is_found_while_it_is_played(self):
        x, _ = sf.read(self.wav(), dtype="float32")
        pk = self.begin()
        self.put(pk, 0, x[: 10 * RATE])
        self.client.post(f"/recordings/{pk}/look")
        job = self.work(Job.objects.get(kind=MAP_SO_FAR))
        self.assertEqual(job.state, Job.State.DONE, job.message)
        so_far = Recording.objects.get(pk=pk).so_far
        self.assertAlmostEqual(so_far["tempo"], 120, delta=0.5)
        self.assertLess(max(so_far["grid"]["time"]), 10)
        self.assertIsNone(Session.objects.get(pk=self.session_.pk).step)  # nothing else changed

    def test_punching_goes_from_bar_line_to_bar_line(self):
        made = self.mapped()
        line = made.tempo_map.bar_seconds
        found = self.client.get(f"/sessions/{made.pk}/record/punch?first=3&last=4&before=2").json()
        self.assertAlmostEqual(found["first"], float(line(3)))
        self.assertAlmostEqual(found["last"], float(line(5)))
        self.assertAlmostEqual(found["play"], float(line(1)))
        self.assertIsNone(self.client.get(f"/sessions/{made.pk}/record/punch?first=3").json()["last"])
        for odd in ("first=4&last=3", "first=x", "first=1&before=99", "first=-900&last=-890"):
            self.assertEqual(self.client.get(f"/sessions/{made.pk}/record/punch?{odd}").status_code, 422, odd)
        self.assertEqual(self.client.get(f"{self.url}/record/punch?first=1").status_code, 422)

    def test_an_empty_session_takes_the_rate_of_the_input_and_no_other_does(self):
        self.assertEqual(self.post(f"{self.url}/record/rate", rate=96_000).status_code, 200)
        self.session_.refresh_from_db()
        self.assertEqual(self.session_.sample_rate, 96_000)
        self.assertEqual(self.post(f"/sessions/{self.mapped().pk}/record/rate", rate=96_000).status_code, 422)

    def raw(self, what, x):
        data = np.asarray(x, dtype="<f4").tobytes()
        return self.client.post(f"{self.url}/record/{what}?rate={RATE}", data, content_type="application/octet-stream")

    def test_latency_and_pitch_are_measured(self):
        sent = np.frombuffer(self.client.get(f"{self.url}/record/loopback?rate={RATE}").content, dtype="<f4")
        np.testing.assert_array_equal(sent, burst(RATE))
        came = np.zeros(RATE, dtype=np.float32)
        came[1234 : 1234 + len(sent)] = 0.2 * sent
        self.assertEqual(self.raw("loopback", came).json()["samples"], 1234)
        self.assertEqual(self.raw("loopback", np.zeros(RATE)).status_code, 422)
        self.assertEqual(self.raw("loopback", np.zeros(6 * RATE)).status_code, 400)
        a = self.raw("tuner", 0.3 * np.sin(2 * np.pi * 441 * np.arange(RATE // 4) / RATE)).json()
        self.assertEqual((a["note"], a["octave"], round(a["cents"])), ("A", 4, 4))
        self.assertIsNone(self.raw("tuner", np.zeros(9000)).json()["note"])
        self.assertEqual(self.raw("tuner", [np.nan] * 9000).status_code, 400)

    def test_a_count_in_without_a_map_has_its_tempo_from_the_player(self):
        found = self.client.get(f"{self.url}/count-in?at=0&bpm=90&beats=3").json()
        rate = self.session_.sample_rate
        self.assertEqual(found["samples"], [round(k * rate * 60 / 90) for k in range(3)])
        self.assertEqual(found["length"], round(3 * rate * 60 / 90))
        self.assertTrue(found["sounds"])
        self.assertEqual(self.client.get(f"{self.url}/count-in?at=0&bpm=0").status_code, 422)

    def test_the_simulated_player_is_for_the_demo_alone(self):
        with self.settings(DATA=self.folder):  # whoever runs the tests may have made the demo
            self.assertEqual(self.client.get("/simulated-player.wav").status_code, 404)
            self.assertNotContains(self.client.get(f"{self.url}/record"), "imulated")
            (self.folder / "demo-made").write_text("{}")
            self.assertContains(self.client.get(f"{self.url}/record"), "Simulated player")
            self.assertEqual(self.client.get("/simulated-player.wav").content[:4], b"RIFF")
