"""One session follows another: linked by a job, gaps are confirmed, its tracks go beside the leader's."""

import json
from dataclasses import replace

import numpy as np
import soundfile as sf

from core import audio
from studio.jobs.models import Job
from studio.library.models import Session
from studio.reshaping.result import result_of
from studio.reshaping.takes import BRING, LINK
from studio.reshaping.wanted import save_wanted, wanted_of
from studio.streaming import BLOCK
from tests.studio.base import PreparedCase

RATE = 44_100
#: Seconds of strokes: the leader's at 120 a minute; the follower's slower and drifting, and without the ninth bar.
LEADER = 1 + 0.5 * np.arange(64)
FOLLOWER = 2 + np.cumsum(0.55 * (1 + 0.03 * np.sin(np.arange(64) / 9)))


class TonesCase(PreparedCase):
    def tones(self, name, times):
        """A file of tones, each stroke of another pitch."""
        tones = 220 * 2 ** (np.random.default_rng(5).integers(0, 24, len(times)) / 12)
        x = np.zeros(round((times[-1] + 2) * RATE))
        for at, hz in zip(times, tones, strict=True):
            t = np.arange(round(0.45 * RATE)) / RATE
            first = round(at * RATE)
            x[first : first + len(t)] += 0.4 * np.exp(-t / 0.12) * np.sin(2 * np.pi * hz * t)
        sf.write(self.folder / name, x, RATE)
        return self.folder / name

    def mapped_at(self, name, times, title):
        """A session of one such track, with the map of its strokes."""
        made = self.session(self.tones(name, times), title=title)
        self.work(Job.objects.create(session=made, kind="find"))
        made.refresh_from_db()
        self.assertIsNotNone(made.step)
        return made


class TwoTakes(TonesCase):
    def prepare(self):
        self.leader = self.mapped_at("leader.wav", LEADER, "Leader")
        self.follower = self.mapped_at("follower.wav", FOLLOWER, "Follower")
        self.url = f"/sessions/{self.follower.pk}"

    def fresh(self):
        return Session.objects.select_related("step").get(pk=self.follower.pk)

    def link(self, **request):
        answer = self.post(f"{self.url}/reshape/link", leader=self.leader.pk, **request)
        self.assertEqual(answer.status_code, 200, answer.content)
        job = self.work(Job.objects.get(session=self.follower, kind=LINK, state=Job.State.WAITING))
        self.assertEqual(job.state, Job.State.DONE, job.message)
        return result_of(self.fresh())

    def test_strokes_of_both_come_together(self):
        result = self.link()
        (track,) = self.follower.tracks.all()
        found = result.attacks(track).seconds
        off = np.abs(found[:, None] - LEADER[None]).min(axis=1)
        self.assertLess(np.median(off), 0.003)
        self.assertEqual(self.fresh().step.name, "Follow Leader")
        # the grid is the leader's own
        self.assertEqual(result.map.to_json(), self.leader.tempo_map.to_json())
        data = self.client.get(f"{self.url}/blocks/1?tracks={track.pk}&clock={result.key}").content
        self.assertEqual(len(np.frombuffer(data, np.float32)), BLOCK)

    def test_by_bar_numbers(self):
        result = self.link(by="bars")
        mine, theirs = self.fresh().tempo_map, self.leader.tempo_map
        bar = 5
        self.assertAlmostEqual(
            float(result.plan.clock.to_target(mine.bar_seconds(bar))), float(theirs.bar_seconds(bar)), delta=0.03
        )

    def test_undo_takes_it_back(self):
        self.link()
        self.post(f"{self.url}/undo", by=-1, step=self.fresh().step_id)
        self.assertIsNone(wanted_of(self.follower).conform)

    def test_a_gap_is_confirmed_and_not(self):
        self.link()
        wanted = wanted_of(self.follower)
        # a link with a gap of four seconds that only the leader has
        first = wanted.conform.link[0]
        half = len(first["source_sec"]) // 2
        stretches = [
            {k: v[:half] for k, v in first.items()},
            {"source_sec": first["source_sec"][half:], "target_sec": [t + 4 for t in first["target_sec"][half:]]},
        ]
        to = replace(wanted.conform, link=stretches, gaps=("",))
        save_wanted(self.fresh(), replace(wanted, conform=to), "A link with a gap")
        page = self.client.get(f"{self.url}/panel/reshape").content.decode()
        self.assertIn("Do that", page)
        answer = self.post(f"{self.url}/reshape", do="gap", gap=0, how="jump")
        self.assertEqual(answer.status_code, 200, answer.content)
        clock = result_of(self.fresh()).plan.clock
        np.testing.assert_allclose(clock.to_target(stretches[1]["source_sec"]), stretches[1]["target_sec"])
        self.assertIn("Not so", self.client.get(f"{self.url}/panel/reshape").content.decode())
        self.assertEqual(self.post(f"{self.url}/reshape", do="gap", gap=7, how="jump").status_code, 422)

    def test_its_tracks_go_beside_the_leader_s(self):
        result = self.link()
        self.client.post(f"{self.url}/reshape/bring")
        job = self.work(Job.objects.get(session=self.follower, kind=BRING))
        self.assertEqual(job.state, Job.State.DONE, job.message)
        names = list(self.leader.tracks.order_by("pk").values_list("name", flat=True))
        self.assertEqual(names, ["leader", "follower (Follower)"])
        brought = self.leader.tracks.last()
        self.assertAlmostEqual(audio.inspect(brought.source).seconds, result.seconds, delta=1e-4)
        self.assertTrue(Job.objects.filter(session=self.leader, track=brought).exists())
        # once more adds nothing
        self.client.post(f"{self.url}/reshape/bring")
        self.work(Job.objects.filter(session=self.follower, kind=BRING).latest("pk"))
        self.assertEqual(self.leader.tracks.count(), 2)

    def test_what_cannot_be_is_said_in_a_sentence(self):
        for request, words in (
            ({"leader": self.follower.pk}, "another session"),
            ({"leader": 999}, "another session"),
            ({"leader": "x"}, "leader cannot be"),
            ({}, "leader"),
        ):
            answer = self.post(f"{self.url}/reshape/link", **request)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, json.loads(answer.content)["error"])
        self.client.post(f"{self.url}/reshape/bring")
        job = self.work(Job.objects.get(session=self.follower, kind=BRING))
        self.assertEqual(job.state, Job.State.FAILED)
        self.assertIn("follows none", job.message)
