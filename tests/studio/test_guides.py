"""Weights of tracks as guides: given by the engineer, or by what was analysed."""

from unittest import mock

import numpy as np

from studio.analysis import features
from studio.desk import lean_views
from studio.jobs.models import Job
from studio.library.models import Track
from studio.library.uploads import LISTEN, add_track
from tests.studio.base import PreparedCase


class Guides(PreparedCase):
    def prepare(self):
        self.session_ = self.mapped()
        self.url = f"/sessions/{self.session_.pk}"

    def test_weights_of_the_engineer_s_own_are_used_and_kept(self):
        track = self.session_.tracks.get()
        page = self.client.post(f"{self.url}/guides", {f"weight-{track.pk}": "80"})
        self.assertEqual(page.status_code, 200)
        self.session_.refresh_from_db()
        self.assertEqual(self.session_.guides, {track.name: 80.0})
        self.assertEqual(self.session_.tracking_options.guides, {track.name: 80.0})
        self.assertIn('value="80"', self.client.get(f"{self.url}/panel/guide").content.decode())

    def test_a_weight_goes_with_its_track_to_a_new_name(self):
        track = self.session_.tracks.get()
        self.client.post(f"{self.url}/guides", {f"weight-{track.pk}": "80"})
        self.assertEqual(self.post(f"/tracks/{track.pk}", name="Oud").status_code, 200)
        self.session_.refresh_from_db()
        self.assertEqual(self.session_.guides, {"Oud": 80.0})
        self.assertIn('value="80"', self.client.get(f"{self.url}/panel/guide").content.decode())
        # where another track has the name, too, its weight stays
        Track.objects.create(session=self.session_, name="Oud", source_name="x.wav", rate=44_100, channels=1, seconds=1)
        self.post(f"/tracks/{track.pk}", name="Lute")
        self.session_.refresh_from_db()
        self.assertEqual(self.session_.guides, {"Oud": 80.0, "Lute": 80.0})

    def test_what_a_track_is_said_to_be_counts_for_doubts_at_once(self):
        track = self.session_.tracks.get()
        seen = []

        def reviewed(context, tempo_map, usual, chains, pieces):
            seen.append([(t.name, t.role) for t in context.tracks])
            return np.ones(len(tempo_map.beats())), []

        with mock.patch("studio.desk.doubt_views.review", reviewed):
            self.client.get(f"{self.url}/doubts")
            self.client.post(f"/tracks/{track.pk}", {"role": "room"})
            self.post(f"/tracks/{track.pk}", name="Church")
            self.client.get(f"{self.url}/doubts")
            self.client.get(f"{self.url}/doubts")
        self.assertEqual(seen[1:], [[("Church", "room")]])

    def test_tracks_are_ranked_before_any_search_and_as_they_stand(self):
        track = self.session_.tracks.get()
        self.session_.analyses.all().delete()
        (ranked,) = self.client.get(f"{self.url}/facts").json()["tracks"]
        self.assertEqual(ranked["weight"], 1.0)
        self.assertRegex(ranked["reason"], r"^\d+ sharp attacks, very even$")
        self.post(f"/tracks/{track.pk}", name="Another name")
        (renamed,) = self.client.get(f"{self.url}/facts").json()["tracks"]
        self.assertEqual((renamed["weight"], renamed["reason"]), (ranked["weight"], ranked["reason"]))

    def test_a_weight_that_is_none_is_refused_in_words(self):
        track = self.session_.tracks.get()
        for bad in ("much", "-3", "101", "0"):
            page = self.client.post(f"{self.url}/guides", {f"weight-{track.pk}": bad})
            self.assertEqual(page.status_code, 422)
            self.assertIn('role="alert"', page.content.decode())

    def test_the_analysis_of_another_track_may_end_while_a_page_is_made(self):
        other = add_track(self.session_, self.wav("snare.wav", 1.5 + np.arange(19)), "snare.wav")
        self.work(Job.objects.create(session=self.session_, kind=LISTEN, track=other))

        def patched(place, name):
            compute = getattr(place, name)

            def ends_meanwhile(*arguments):
                Track.objects.filter(pk=other.pk).update(analysed=True)
                return compute(*arguments)

            Track.objects.filter(pk=other.pk).update(analysed=False)
            return mock.patch.object(place, name, ends_meanwhile)

        for what, place, name in (("panel/guide", features, "rank_guides"), ("lean", lean_views, "_delays")):
            with self.subTest(what), patched(place, name):
                self.assertEqual(self.client.get(f"{self.url}/{what}").status_code, 200)
        with patched(features, "context_key"):
            self.assertEqual(len(features.context(self.session_).tracks), 1)
        self.assertEqual(len(features.context(self.session_).tracks), 2)
