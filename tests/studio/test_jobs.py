"""Jobs: done, cancelled, failed in words, and never left hanging by a dead worker."""

from datetime import timedelta
from unittest import mock

import numpy as np
import soundfile as sf
from django.utils import timezone

from core.listening import stored
from studio.analysis import features
from studio.analysis.models import latest
from studio.analysis.work import listen_again
from studio.desk.find_job import FIND
from studio.jobs import registry, tasks
from studio.jobs.models import SILENCE, TRIES, Job
from studio.jobs.registry import JobKind
from studio.library.uploads import LISTEN
from tests.studio.base import StudioCase


class Ends(StudioCase):
    def find(self, *paths):
        return self.work(Job.objects.create(session=self.session(*paths), kind=FIND))

    def instead(self, work):
        """Other work in place of finding beats."""
        return mock.patch.dict(registry._kinds, {FIND: JobKind(FIND, "Finding beats", work)})

    def test_a_map_is_found_and_recorded(self):
        session = self.mapped()
        beats = session.step.tempo_map.beats()
        np.testing.assert_allclose(np.diff(beats.seconds), 0.5, atol=0.002)
        self.assertEqual(session.step.name, "Beats found")
        self.assertEqual(len(latest(session, "confidence")["confidence"]), len(beats))

    def test_what_an_earlier_version_analysed_is_analysed_again_by_a_job(self):
        session = self.mapped()
        track = session.tracks.get()
        before = features.analysed(track)
        with mock.patch.object(stored, "VERSION", stored.VERSION + 1):
            self.assertIsNone(features.analysed(track))
            self.assertEqual(features.outdated(), [track])
            self.assertEqual(listen_again(), 1)
            self.assertEqual(listen_again(), 1)  # the same job, not one more
            self.work(session.jobs.get(kind=LISTEN))
            self.assertEqual(features.outdated(), [])
            after = features.analysed(track)
        np.testing.assert_array_equal(after.attacks.sharpness, before.attacks.sharpness)
        np.testing.assert_array_equal(after.attacks.seconds, before.attacks.seconds)

    def test_asking_never_analyses_but_queues_a_job_for_a_damaged_file(self):
        session = self.mapped()
        path = session.tracks.get().folder / features.FEATURES
        path.write_bytes(path.read_bytes()[:1000])
        with mock.patch("core.analysis.pipeline.analyse_source", side_effect=AssertionError("analysed")):
            for url in ("doubts", "lean", "panel/check", "map", "facts", f"fold/{session.tracks.get().pk}"):
                self.assertEqual(self.client.get(f"/sessions/{session.pk}/{url}").status_code, 200, url)
            self.assertEqual(self.client.get(f"/tracks/{session.tracks.get().pk}/attacks").json()["seconds"], [])
        self.work(session.jobs.get(kind=LISTEN, state=Job.State.WAITING))
        self.assertEqual(len(features.context(session).tracks), 1)

    def test_too_short_silent_and_empty_fail_in_words(self):
        sf.write(self.folder / "short.wav", np.random.default_rng(0).uniform(-1, 1, 44_100), 44_100)
        sf.write(self.folder / "silent.wav", np.zeros(44_100 * 6), 44_100)
        for paths, words in (
            ([self.folder / "short.wav"], "lasts 1.0 s"),
            ([self.folder / "silent.wav"], "No beats found"),
            ([], "no tracks yet"),
        ):
            job = self.find(*paths)
            self.assertEqual(job.state, Job.State.FAILED)
            self.assertIn(words, job.message)

    def test_what_was_not_foreseen_is_reported_too(self):
        with (
            self.instead(mock.Mock(side_effect=RuntimeError("boom"))),
            self.assertLogs("studio.jobs", "ERROR"),
        ):
            job = self.find(self.wav())
        self.assertEqual(job.state, Job.State.FAILED)
        self.assertIn("Your tracks and map are safe", job.message)

    def test_a_full_disk_while_working(self):
        with self.instead(mock.Mock(side_effect=OSError(28, "No space left on device"))):
            self.assertIn("No space left", self.find(self.wav()).message)

    def test_cancel_waiting_and_running(self):
        session = self.session(self.wav())
        waiting = tasks.start(session, FIND)
        self.client.post(f"/jobs/{waiting.pk}/cancel")
        self.assertEqual(self.work(waiting).state, Job.State.CANCELLED)
        running = Job.objects.create(session=session, kind=FIND)

        def cancelled_in_the_middle(job, report):
            report("Listening", 0.1)
            tasks.cancel(job)
            report("Counting", 0.2)
            self.fail("went on although cancelled")

        with self.instead(cancelled_in_the_middle):
            self.assertEqual(self.work(running).state, Job.State.CANCELLED)
        self.assertIn("was cancelled", self.client.get(f"/sessions/{session.pk}/jobs").content.decode())


class DeadWorkers(StudioCase):
    def lost(self, **facts):
        long_ago = timezone.now() - SILENCE - timedelta(seconds=1)
        return Job.objects.create(
            session=self.session(self.wav()),
            kind=FIND,
            state=Job.State.RUNNING,
            **{"heartbeat": long_ago, "tries": 1, **facts},
        )

    def test_a_lost_job_is_run_again(self):
        job = self.lost()
        self.assertEqual(tasks.revive(), 1)
        job.refresh_from_db()
        self.assertEqual(job.state, Job.State.WAITING)
        self.assertEqual(self.work(job).state, Job.State.DONE)
        self.assertEqual(job.tries, 2)

    def test_after_the_last_try_it_is_reported(self):
        job = self.lost(tries=TRIES)
        tasks.revive()
        job.refresh_from_db()
        self.assertEqual(job.state, Job.State.FAILED)
        self.assertIn("3 times", job.message)
        page = self.client.get(f"/sessions/{job.session_id}/jobs").content.decode()
        self.assertIn("Try again", page)

    def test_a_lost_job_that_was_to_be_cancelled_is(self):
        job = self.lost(cancel_asked=True)
        tasks.revive()
        job.refresh_from_db()
        self.assertEqual(job.state, Job.State.CANCELLED)

    def test_a_living_one_is_left_alone(self):
        job = self.lost(heartbeat=timezone.now())
        self.assertEqual(tasks.revive(), 0)
        job.refresh_from_db()
        self.assertEqual(job.state, Job.State.RUNNING)

    def test_a_job_queued_twice_is_done_once(self):
        session = self.session(self.wav())
        job = tasks.start(session, FIND)
        self.assertEqual(tasks.start(session, FIND), job)
        self.work(job)
        self.work(job)
        self.assertEqual((job.tries, session.steps.count()), (1, 1))
