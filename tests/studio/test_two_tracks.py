"""One track of a session follows another: two takes that stand side by side."""

import numpy as np

from studio.jobs.models import Job
from studio.library.models import Session
from studio.library.uploads import LISTEN, add_track
from studio.reshaping.result import result_of
from studio.reshaping.track_takes import LINK_TRACKS
from studio.reshaping.wanted import wanted_of
from tests.studio.test_two_takes import FOLLOWER, LEADER, TonesCase


class TwoTracks(TonesCase):
    def prepare(self):
        self.own = self.mapped_at("first.wav", LEADER, "Both")
        self.leader = self.own.tracks.get()
        self.follower = self.brought("second.wav", FOLLOWER)
        self.url = f"/sessions/{self.own.pk}"

    def brought(self, name, times):
        track = add_track(self.own, self.tones(name, times), name)
        self.assertEqual(
            self.work(Job.objects.create(session=self.own, kind=LISTEN, track=track)).state, Job.State.DONE
        )
        return track

    def fresh(self):
        return Session.objects.select_related("step").get(pk=self.own.pk)

    def ask(self, track, leader):
        return self.post(f"{self.url}/reshape/link-tracks", track=track.pk, leader=leader.pk)

    def link(self, track, leader):
        answer = self.ask(track, leader)
        self.assertEqual(answer.status_code, 200, answer.content)
        job = self.work(Job.objects.filter(session=self.own, kind=LINK_TRACKS).latest("pk"))
        self.assertEqual(job.state, Job.State.DONE, job.message)
        return result_of(self.fresh())

    def off(self, result, track):
        """How far a track's strokes are from the leader's, in seconds (median)."""
        found = result.attacks(track).seconds
        return np.median(np.abs(found[:, None] - LEADER[None]).min(axis=1))

    def test_its_strokes_come_to_the_leader_s_and_nothing_else_moves(self):
        map_before = self.fresh().tempo_map
        result = self.link(self.follower, self.leader)
        self.assertLess(self.off(result, self.follower), 0.003)
        self.assertTrue(result.group_of(self.leader.pk).warp.is_identity)
        self.assertEqual(result.map, map_before)
        self.assertEqual(self.fresh().step.name, "second follows first")
        page = self.client.get(f"{self.url}/panel/reshape").content.decode()
        self.assertIn('<h3 class="part">second follows first</h3>', page)
        self.assertIn("attacks of second fall on one of the leader", page)

    def test_it_may_lead_a_third_and_the_chain_holds(self):
        third = self.brought("third.wav", 3 + 0.6 * np.arange(64))
        self.link(self.follower, self.leader)
        result = self.link(third, self.follower)
        self.assertLess(self.off(result, third), 0.005)
        answer = self.ask(self.leader, third)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("already", answer.json()["error"])

    def test_it_is_taken_back_by_its_button_and_by_undo(self):
        self.link(self.follower, self.leader)
        key = wanted_of(self.own).followings[0].key
        self.post(f"{self.url}/reshape", do="drop", key=key)
        self.assertIsNone(result_of(self.fresh()))
        self.post(f"{self.url}/undo", by=-1, step=self.fresh().step_id)
        self.assertEqual(len(wanted_of(self.own).followings), 1)

    def test_linked_anew_it_replaces_the_link_before(self):
        self.link(self.follower, self.leader)
        self.link(self.follower, self.leader)
        self.assertEqual(len(wanted_of(self.own).followings), 1)

    def test_conforming_takes_both_along(self):
        self.link(self.follower, self.leader)
        self.post(f"{self.url}/reshape", do="conform", kind="tempo", bpm=100)
        result = result_of(self.fresh())
        found = [result.attacks(t).seconds for t in (self.leader, self.follower)]
        self.assertLess(np.median(np.abs(found[1][:, None] - found[0][None]).min(axis=1)), 0.005)

    def test_a_gap_of_a_track_is_decided(self):
        self.link(self.follower, self.leader)
        key = wanted_of(self.own).followings[0].key
        for request, status in (({"key": key, "gap": 3}, 422), ({"key": 99, "gap": 0}, 422)):
            answer = self.post(f"{self.url}/reshape", do="gap", how="jump", **request)
            self.assertEqual(answer.status_code, status)

    def test_a_leader_that_is_taken_out_leads_no_more(self):
        self.link(self.follower, self.leader)
        self.client.delete(f"/tracks/{self.leader.pk}")
        self.leader.refresh_from_db()
        self.assertTrue(self.leader.gone)
        self.assertTrue(result_of(self.fresh()).group_of(self.follower.pk).warp.is_identity)
        self.assertEqual(self.client.get(f"{self.url}/panel/reshape").status_code, 200)

    def test_what_cannot_be_is_said_in_a_sentence(self):
        for track, leader, words in (
            (self.follower.pk, self.follower.pk, "itself"),
            (self.follower.pk, 999, "taken out"),
            ("x", self.leader.pk, "cannot be"),
        ):
            answer = self.post(f"{self.url}/reshape/link-tracks", track=track, leader=leader)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.json()["error"])

    def test_asked_for_another_leader_meanwhile_the_first_search_is_called_off(self):
        self.ask(self.follower, self.leader)
        self.ask(self.leader, self.follower)
        first, second = Job.objects.filter(session=self.own, kind=LINK_TRACKS).order_by("pk")
        self.assertEqual((first.state, second.state), (Job.State.CANCELLED, Job.State.WAITING))
        self.work(second)
        self.assertEqual(wanted_of(self.own).followings[0].leader, self.follower.pk)
