"""Jobs: done, cancelled, failed in words, and never left hanging by a dead worker."""

from datetime import timedelta
from unittest import mock

import numpy as np
import soundfile as sf
from django.utils import timezone

from core.listening import kept
from studio.jobs import tasks
from studio.jobs.models import SILENCE, TRIES, Job
from studio.library.hearing import HEARD, scene
from tests.studio.base import StudioCase


class Ends(StudioCase):
    def find(self, *paths):
        return self.work(Job.objects.create(session=self.session(*paths), kind=Job.Kind.FIND))

    def test_a_map_is_found_and_recorded(self):
        session = self.mapped()
        beats = session.step.tempo_map.beats()
        np.testing.assert_allclose(np.diff(beats.seconds), 0.5, atol=0.002)
        self.assertEqual(session.step.name, "Beats found")
        self.assertEqual(len(session.finding["confidence"]), len(beats))

    def test_what_an_earlier_version_heard_is_heard_again(self):
        session = self.mapped()
        path = session.tracks.get().folder / HEARD
        before = kept.read(path)
        with np.load(path) as d:
            old = {k: v for k, v in d.items() if k not in ("version", "sharpness")}
        np.savez(path, **old)
        self.assertIsNone(kept.read(path))
        seen = scene(session)
        np.testing.assert_array_equal(seen.players[0].attacks.sharpness, before.attacks.sharpness)
        np.testing.assert_array_equal(kept.read(path).attacks.seconds, before.attacks.seconds)

    def test_a_damaged_file_of_what_was_heard_is_made_again(self):
        session = self.mapped()
        path = session.tracks.get().folder / HEARD
        path.write_bytes(path.read_bytes()[:1000])
        seen = scene(session)
        self.assertEqual(len(seen.players), 1)
        self.assertIsNotNone(kept.read(path))

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
            mock.patch.dict(tasks.WORK, {Job.Kind.FIND: mock.Mock(side_effect=RuntimeError("boom"))}),
            self.assertLogs("studio.jobs", "ERROR"),
        ):
            job = self.find(self.wav())
        self.assertEqual(job.state, Job.State.FAILED)
        self.assertIn("Your tracks and map are safe", job.message)

    def test_a_full_disk_while_working(self):
        with mock.patch.dict(
            tasks.WORK, {Job.Kind.FIND: mock.Mock(side_effect=OSError(28, "No space left on device"))}
        ):
            self.assertIn("No space left", self.find(self.wav()).message)

    def test_cancel_waiting_and_running(self):
        session = self.session(self.wav())
        waiting = tasks.start(session, Job.Kind.FIND)
        self.client.post(f"/jobs/{waiting.pk}/cancel")
        self.assertEqual(self.work(waiting).state, Job.State.CANCELLED)
        running = Job.objects.create(session=session, kind=Job.Kind.FIND)

        def cancelled_in_the_middle(job, report):
            report("Listening", 0.1)
            tasks.cancel(job)
            report("Counting", 0.2)
            self.fail("went on although cancelled")

        with mock.patch.dict(tasks.WORK, {Job.Kind.FIND: cancelled_in_the_middle}):
            self.assertEqual(self.work(running).state, Job.State.CANCELLED)
        self.assertIn("was cancelled", self.client.get(f"/sessions/{session.pk}/jobs").content.decode())


class DeadWorkers(StudioCase):
    def lost(self, **facts):
        long_ago = timezone.now() - SILENCE - timedelta(seconds=1)
        return Job.objects.create(
            session=self.session(self.wav()),
            kind=Job.Kind.FIND,
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
        job = tasks.start(session, Job.Kind.FIND)
        self.assertEqual(tasks.start(session, Job.Kind.FIND), job)
        self.work(job)
        self.work(job)
        self.assertEqual((job.tries, session.steps.count()), (1, 1))
