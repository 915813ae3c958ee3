"""Jobs: done, cancelled, failed in words, and never left hanging by a dead worker."""

import os
from unittest import mock

import numpy as np
import soundfile as sf

from core.listening import stored
from studio.analysis import features
from studio.analysis.models import latest
from studio.analysis.work import listen_again
from studio.desk.find_job import FIND
from studio.jobs import queue, registry, working
from studio.jobs.models import TRIES, Cancelled, Job
from studio.jobs.registry import JobKind
from studio.library.uploads import LISTEN
from studio.server.workers import STOPS_WITHIN, STUCK_AFTER, Worker
from tests.studio.base import StudioCase


class Ends(StudioCase):
    def find(self, *paths):
        return self.work(Job.objects.create(session=self.session(*paths), kind=FIND))

    def instead(self, work):
        """Other work in place of finding beats."""
        return mock.patch.dict(registry._kinds, {FIND: JobKind(FIND, "Finding beats", work)})

    def test_what_ended_badly_is_tried_again_and_nothing_else(self):
        session = self.mapped()
        track, before = session.tracks.get(), session.step
        for kind, of in (("bundle-player", None), (LISTEN, track)):
            for state in (Job.State.CANCELLED, Job.State.FAILED):
                with self.subTest(kind, state=state):
                    session.jobs.all().delete()
                    ended = Job.objects.create(session=session, kind=kind, track=of, state=state, message="It ended.")
                    shown = self.client.get(f"/sessions/{session.pk}/jobs")
                    self.assertContains(shown, f'hx-post="/jobs/{ended.pk}/retry"')
                    self.assertContains(self.client.post(f"/jobs/{ended.pk}/retry"), "Waiting for the worker")
                    again = session.jobs.get()
                    self.assertEqual((again.kind, again.track, again.state), (kind, of, Job.State.WAITING))
                    # there is nothing to try again any more
                    self.assertEqual(self.client.post(f"/jobs/{ended.pk}/retry").status_code, 404)
                    self.assertEqual(self.client.post(f"/jobs/{again.pk}/retry").status_code, 404)
        self.assertEqual(type(session).objects.get(pk=session.pk).step, before)

    def test_a_job_that_a_worker_took_does_not_seem_to_wait(self):
        session = self.mapped()
        queue.start(session, FIND)
        self.assertEqual(queue.take("one").stage, "Beginning")

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
            self.assertIn("The disk is full", self.find(self.wav()).message)
        with (
            self.instead(mock.Mock(side_effect=sf.LibsndfileError(2))),  # its "system error" does not say which
            mock.patch("studio.disk.shutil.disk_usage", return_value=mock.Mock(free=1000)),
            self.assertLogs("studio.jobs", "ERROR"),
        ):
            self.assertIn("The disk is full", self.find(self.wav("b.wav")).message)

    def test_cancel_waiting_and_running(self):
        session = self.session(self.wav())
        waiting = queue.start(session, FIND)
        self.client.post(f"/jobs/{waiting.pk}/cancel")
        self.assertEqual(self.work(waiting).state, Job.State.CANCELLED)
        running = Job.objects.create(session=session, kind=FIND)

        def cancelled_in_the_middle(job, report):
            report("Listening", 0.1)
            queue.cancel(job)
            report("Counting", 0.2)
            self.fail("went on although cancelled")

        with self.instead(cancelled_in_the_middle):
            self.assertEqual(self.work(running).state, Job.State.CANCELLED)
        self.assertIn("was cancelled", self.client.get(f"/sessions/{session.pk}/jobs").content.decode())


class DeadWorkers(StudioCase):
    def lost(self, **facts):
        return Job.objects.create(
            session=self.session(self.wav()),
            kind=FIND,
            state=Job.State.RUNNING,
            **{"worker": "dead", "lease": 1, "tries": 1, **facts},
        )

    def test_a_lost_job_is_run_again(self):
        job = self.lost()
        self.assertEqual(queue.give_back(["living"]), 1)
        job.refresh_from_db()
        self.assertEqual(job.state, Job.State.WAITING)
        self.assertEqual(self.work(job).state, Job.State.DONE)
        self.assertEqual(job.tries, 2)

    def test_after_the_last_try_it_is_reported(self):
        job = self.lost(tries=TRIES)
        queue.give_back([])
        job.refresh_from_db()
        self.assertEqual(job.state, Job.State.FAILED)
        self.assertIn("3 times", job.message)
        page = self.client.get(f"/sessions/{job.session_id}/jobs").content.decode()
        self.assertIn("Try again", page)

    def test_a_lost_job_that_was_to_be_cancelled_is(self):
        job = self.lost(cancel_asked=True)
        queue.give_back([])
        job.refresh_from_db()
        self.assertEqual(job.state, Job.State.CANCELLED)

    def test_a_living_one_is_left_alone_however_long_it_was_silent(self):
        job = self.lost(worker="asleep")
        self.assertEqual(queue.give_back(["asleep"]), 0)
        job.refresh_from_db()
        self.assertEqual(job.state, Job.State.RUNNING)

    def test_a_worker_that_was_given_up_stores_nothing(self):
        """It slept, hung or was cut off; the job has another worker by then."""
        session = self.mapped()
        step = session.step_id
        job = Job.objects.create(session=session, kind=FIND)
        mine = queue.taken(job, "sleeper")
        with mock.patch("studio.desk.find_job.analyse", side_effect=self.meanwhile(job)):
            working.work(mine)
        job.refresh_from_db()
        self.assertEqual((job.state, job.worker), (Job.State.RUNNING, "second"))
        session.refresh_from_db()
        self.assertEqual(session.step_id, step)

    def meanwhile(self, job):
        """Finding beats, while the job is given to another worker."""
        from studio.desk.find_job import analyse

        def found(*args):
            result = analyse(*args[:2], lambda *_: None, *args[3:])
            queue.give_back([])
            self.assertIsNotNone(queue.taken(job, "second"))
            return result

        return found

    def test_a_session_has_one_worker_at_a_time_and_others_come_in_between(self):
        first, second = self.session(self.wav()), self.session(self.wav("b.wav", 1 + 0.6 * np.arange(30)))
        for kind in (LISTEN, FIND, "chords"):
            queue.start(first, kind)
        other = queue.start(second, FIND)
        self.assertEqual(queue.take("a").session, first)
        self.assertEqual(queue.take("b"), other)
        self.assertIsNone(queue.take("c"))

    def test_a_fence_stops_what_was_cancelled(self):
        job = queue.taken(Job.objects.create(session=self.session(), kind=FIND), "a")
        job.fence()
        queue.cancel(job)
        with self.assertRaises(Cancelled):
            job.fence()


class Limits(StudioCase):
    """What the server does about workers: see studio/server/workers.py."""

    def watched(self, **facts):
        job = queue.taken(Job.objects.create(session=self.session(), kind=FIND), "w")
        for name, value in facts.items():
            setattr(job, name, value)
        return Worker("w", 1, mock.Mock(pid=os.getpid())), job

    def test_a_cancelled_job_that_does_not_stop_loses_its_worker(self):
        worker, job = self.watched(cancel_asked=True)
        self.assertIsNone(worker.watch(job, 1e12))
        worker.cancelled -= STOPS_WITHIN + 0.1
        self.assertEqual(worker.watch(job, 1e12), "")

    def test_a_job_without_progress_is_given_up_with_a_sentence(self):
        worker, job = self.watched()
        self.assertIsNone(worker.watch(job, 1e12))
        worker.since -= STUCK_AFTER + 1
        job.share = 0.5
        self.assertIsNone(worker.watch(job, 1e12))
        worker.since -= STUCK_AFTER + 1
        self.assertIn("no progress", worker.watch(job, 1e12))

    def test_a_job_that_takes_all_memory_is_ended_with_a_sentence(self):
        worker, job = self.watched()
        self.assertIn("more memory", worker.watch(job, 1000))

    def test_a_worker_without_work_is_let_be(self):
        worker, _ = self.watched()
        self.assertIsNone(worker.watch(None, 1000))


class OneOfAKind(StudioCase):
    def test_a_job_queued_twice_is_done_once(self):
        session = self.session(self.wav())
        job = queue.start(session, FIND)
        self.assertEqual(queue.start(session, FIND), job)
        self.work(job)
        self.work(job)
        self.assertEqual((job.tries, session.steps.count()), (1, 1))


class Steering(StudioCase):
    def setUp(self):
        super().setUp()
        self.takes = [self.session(title=f"Take {k}") for k in range(3)]
        self.jobs = [Job.objects.create(session=t, kind="find") for t in self.takes]

    def steer(self, **asked):
        answer = self.client.post("/queue/steer", asked)
        self.assertEqual(answer.status_code, 200)
        return answer

    def taken(self):
        job = queue.take("worker")
        return job and job.session.title

    def test_a_job_is_put_first(self):
        self.steer(first=self.jobs[2].pk)
        self.steer(first=self.jobs[1].pk)
        self.assertEqual([self.taken() for _ in range(4)], ["Take 1", "Take 2", "Take 0", None])

    def test_paused_nothing_begins_until_it_goes_on(self):
        self.assertEqual(self.taken(), "Take 0")
        page = self.steer(pause="1")
        self.assertContains(page, "Go on")
        self.assertIsNone(self.taken())
        self.assertContains(self.client.get(f"/sessions/{self.takes[1].pk}/jobs"), "is paused")
        self.assertNotContains(self.client.get(f"/sessions/{self.takes[0].pk}/jobs"), "is paused")
        self.steer(pause="1")
        self.steer(pause="0")
        self.assertEqual(self.taken(), "Take 1")

    def test_one_is_cancelled_or_all_that_wait(self):
        self.assertEqual(self.taken(), "Take 0")
        self.steer(cancel=self.jobs[1].pk)
        self.assertEqual(Job.objects.get(pk=self.jobs[1].pk).state, "cancelled")
        self.steer(cancel_all="1")
        states = list(Job.objects.order_by("pk").values_list("state", flat=True))
        self.assertEqual(states, ["running", "cancelled", "cancelled"])

    def test_the_page_lists_what_runs_and_what_waits_in_its_order(self):
        self.taken()
        self.steer(first=self.jobs[2].pk)
        page = self.client.get("/queue").content.decode()
        places = [page.index(f"Take {k}") for k in (0, 2, 1)]
        self.assertEqual(places, sorted(places))
        self.assertNotIn("<html", self.client.get("/queue", headers={"HX-Request": "true"}).content.decode())
        for wrong in ({"first": "x"}, {"cancel": "-1"}, {"first": "999"}):
            self.assertIn(self.client.post("/queue/steer", wrong).status_code, (400, 404, 422))
