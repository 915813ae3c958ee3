"""One history for everything: whatever was done last is undone first, and nothing that was said is lost."""

import importlib
import json
from unittest import mock

import numpy as np
from django.apps import apps
from django.db import connection

from core.analysis import analyse
from core.document import Right
from core.document.statements import holds
from core.tempomap import TempoMap
from studio.desk import history, pieces
from studio.desk.find_job import FIND
from studio.desk.models import MapStep, Mark, Piece
from studio.desk.statements import document_of
from studio.jobs.models import Job
from studio.library.models import Session, Track
from studio.library.uploads import LISTEN, add_track
from studio.parts.models import Part
from tests.studio.base import StudioCase


class OneHistory(StudioCase):
    def setUp(self):
        super().setUp()
        self.take = self.mapped()
        self.url = f"/sessions/{self.take.pk}"
        self.track = self.take.tracks.get()

    @property
    def step(self):
        return Session.objects.get(pk=self.take.pk).step_id

    def edit(self, **said):
        return self.post(f"{self.url}/edit", step=self.step, **said)

    def undo(self, by=-1):
        answer = self.post(f"{self.url}/undo", by=by, step=self.step)
        self.assertEqual(answer.status_code, 200)

    def names(self):
        steps, here = history.line(Session.objects.get(pk=self.take.pk))
        return [s.name for s in steps[: here + 1]]

    def test_undo_goes_back_through_marks_levels_parts_and_the_map(self):
        self.post(f"{self.url}/mark", kind="section", name="Verse", stretch=[2.0, 6.0])
        self.post(f"/tracks/{self.track.pk}", gain=-6)
        self.client.post(f"{self.url}/parts/pattern", {"pattern": "Boardwalk", "from": "1", "to": "4"})
        self.edit(kind="nudge", beat=6, by=0.01)
        self.assertEqual(Part.objects.filter(gone=False).count(), 1)
        self.undo()
        self.undo()
        self.assertEqual(Part.objects.filter(gone=False).count(), 0)
        self.assertEqual(Track.objects.get(pk=self.track.pk).gain, -6)
        self.undo()
        self.assertEqual(Track.objects.get(pk=self.track.pk).gain, 0)
        self.assertEqual(self.take.marks.get().name, "Verse")
        self.undo()
        self.assertFalse(self.take.marks.exists())
        self.undo(by=4)
        self.assertEqual((self.take.marks.get().name, Part.objects.filter(gone=False).count()), ("Verse", 1))

    def test_a_removed_section_comes_back_with_its_place_in_the_running_order(self):
        made = self.post(f"{self.url}/mark", kind="section", name="Verse", stretch=[2.0, 6.0]).json()["marks"][0]
        self.client.post(f"{self.url}/order/add", {"all": "1"})
        self.assertEqual(self.take.turns.count(), 1)
        self.post(f"{self.url}/mark", remove=made["id"])
        self.assertEqual(self.take.turns.count(), 0)
        self.undo()
        self.assertEqual((self.take.marks.get().pk, self.take.turns.get().section_id), (made["id"], made["id"]))

    def test_tracks_are_taken_out_and_brought_back(self):
        self.client.post(f"/tracks/{self.track.pk}", {"out": "1"})
        self.assertFalse(self.take.tracks.exists())
        self.assertTrue(self.track.source.exists())
        self.undo()
        self.assertTrue(self.take.tracks.exists())
        self.client.delete(f"/tracks/{self.track.pk}")
        self.client.post(f"/tracks/{self.track.pk}", {"back": "1"})
        self.assertTrue(self.take.tracks.exists())

    def test_what_was_said_is_undone_with_the_edit_that_said_it(self):
        self.edit(kind="one", beat=6)
        self.assertEqual(self.take.marks.get().kind, Mark.Kind.LINE)
        refused = self.edit(kind="downbeat", by=1)
        self.assertEqual((refused.status_code, refused.json()["contradicts"]), (422, True))
        self.assertIn("Bar line at", refused.json()["error"])
        self.undo()
        self.assertFalse(self.take.marks.exists())
        self.assertEqual(self.edit(kind="downbeat", by=1).status_code, 200)

    def test_overruling_takes_the_statement_back_in_the_same_step(self):
        self.edit(kind="one", beat=6)
        self.assertEqual(self.edit(kind="downbeat", by=1, overrule=True).status_code, 200)
        self.assertFalse(self.take.marks.exists())
        self.undo()
        self.assertEqual(self.take.marks.get().kind, Mark.Kind.LINE)

    def test_what_changes_nothing_is_no_step(self):
        before = self.names()
        self.assertTrue(self.edit(kind="nudge", beat=6, by=0.01).json().get("unchanged") is None)
        for said in ({"kind": "pin", "beat": 6}, {"kind": "nudge", "beat": 6, "by": 0.0}):
            self.assertTrue(self.edit(**said).json()["unchanged"])
        self.post(f"/tracks/{self.track.pk}", gain=0.0)
        self.assertEqual(self.names(), [*before, "Nudged bar 2 beat 3 by +10 ms"])

    def test_a_fader_that_is_drawn_is_one_step(self):
        for gain in (-1, -2, -3):
            self.post(f"/tracks/{self.track.pk}", gain=gain)
        self.assertEqual(self.names()[-2:], ["Beats found", f"Level of {self.track.name}"])

    def test_a_mute_a_solo_and_a_pan_are_named_as_what_they_are(self):
        for mix in ({"muted": True}, {"muted": False}, {"solo": True}, {"solo": False}, {"pan": 0.5}):
            self.post(f"/tracks/{self.track.pk}", **mix)
        name = self.track.name
        said = [f"{name} muted", f"{name} no longer muted", f"{name} solo", f"{name} no longer solo", f"Pan of {name}"]
        self.assertEqual(self.names()[-5:], said)

    def test_every_response_names_the_step_that_it_made(self):
        before = self.step
        answer = self.post(f"/tracks/{self.track.pk}", muted=True)
        self.assertEqual((answer["X-Step-Before"], answer["X-Step"]), (str(before), str(self.step)))
        self.assertNotIn("X-Step", self.client.get(f"{self.url}/map").headers)

    def test_an_edit_on_an_older_step_with_the_same_map_is_made(self):
        old = self.step
        self.post(f"/tracks/{self.track.pk}", muted=True)
        self.assertEqual(self.post(f"{self.url}/edit", step=old, kind="pin", beat=4).status_code, 200)
        self.assertEqual(self.post(f"{self.url}/edit", step=old, kind="pin", beat=5).status_code, 409)

    def test_a_bug_is_no_mistake_of_the_engineer(self):
        self.client.raise_request_exception = False
        with (
            mock.patch("core.editing.beats.edits.set_pin", side_effect=ValueError("of our own making")),
            self.assertLogs("django.request", "ERROR") as logged,
        ):
            self.assertEqual(self.edit(kind="pin", beat=4).status_code, 500)
        self.assertIn("of our own making", logged.output[0])

    def test_wrong_fields_are_named(self):
        for said, words in (
            ({"kind": "nudge", "beat": "x", "by": 1}, "The beat has to be a whole number."),
            ({"kind": "tempo", "beat": 3, "bpm": None}, "The tempo has to be a number."),
            ({"kind": "bars", "stretch": [1, 9], "bars": "x"}, "The number of bars has to be a whole number."),
            ({"kind": "tempo", "beat": 3, "bpm": 2}, "A tempo lies between"),
        ):
            answer = self.edit(**said)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.json()["error"])


class Content(StudioCase):
    """Steps share what they have in common, and steps of the version before are read as they were."""

    def setUp(self):
        super().setUp()
        self.take = self.session()
        rng = np.random.default_rng(2)
        self.map = TempoMap.from_beats(1 + np.cumsum(rng.uniform(0.45, 0.55, 4000)))
        self.first = history.record(self.take, self.map, "Beats found")

    def test_a_map_is_stored_in_pieces_and_read_to_the_bit(self):
        cut, chunks = pieces.cut_map(self.map)
        again = pieces.joined_map(json.loads(json.dumps(cut)), chunks)
        self.assertEqual(again, self.map)

    def test_an_edit_of_a_beat_stores_little(self):
        before = sum(len(d) for d in Piece.objects.values_list("data", flat=True))
        seconds = self.map.seconds.copy()
        seconds[2000] += 0.01
        history.record(self.take, self.map.with_points(seconds, self.map.quarters), "Moved")
        after = sum(len(d) for d in Piece.objects.values_list("data", flat=True))
        step = MapStep.objects.last()
        # 5,000 such steps stay under 100 MB
        self.assertLess(after - before + len(step.content), 20_000)

    def test_a_step_of_the_version_before_is_read_and_gone_back_to(self):
        old = MapStep.objects.create(
            session=self.take, name="of old", map=json.dumps(self.map.to_json()), before=self.first, place=1
        )
        self.assertEqual(MapStep.objects.get(pk=old.pk).tempo_map, self.map)
        self.post(f"/sessions/{self.take.pk}/mark", kind="section", name="Verse", stretch=[2.0, 6.0])
        history.go_to(Session.objects.get(pk=self.take.pk), old)
        self.assertEqual(self.take.marks.get().name, "Verse")  # what it does not know stays

    def test_locks_of_the_version_before_hold_what_was_under_them(self):
        old = MapStep.objects.create(session=self.take, name="of old", map=json.dumps(self.map.to_json()))
        Session.objects.filter(pk=self.take.pk).update(step=old)
        Mark.objects.create(session=self.take, kind="lock", start=100.0, end=110.0)
        importlib.import_module("studio.desk.migrations.0008_locks_say_what_they_hold").fill(
            apps, mock.Mock(connection=connection)
        )
        (lock,) = document_of(Session.objects.get(pk=self.take.pk)).statements
        self.assertEqual(lock, Right.of(self.map, 100.0, 110.0))
        self.assertGreater(len(lock.seconds), 15)


class NewTracks(StudioCase):
    def test_a_track_that_is_added_leaves_a_corrected_map_as_it_is(self):
        take = self.mapped()
        url = f"/sessions/{take.pk}"
        state = self.client.get(f"{url}/map").json()
        self.post(f"{url}/edit", step=state["step"], kind="nudge", beat=6, by=0.03)
        before = self.client.get(f"{url}/map").json()
        track = add_track(take, self.wav("snare.wav", 1.01 + 0.5 * np.arange(40)), "snare.wav")
        job = self.work(Job.objects.create(session=take, kind=LISTEN, track=track))
        self.assertEqual(job.state, Job.State.DONE)
        self.assertEqual(self.client.get(f"{url}/map").json(), before)
        # and a search with it obeys what was said
        job = self.work(Job.objects.create(session=take, kind=FIND))
        self.assertEqual(job.state, Job.State.DONE, job.message)
        after = self.client.get(f"{url}/map").json()
        moved = before["grid"]["time"][6 - before["grid"]["first"]]
        self.assertIn(moved, after["grid"]["time"])

    def test_edits_that_are_made_while_beats_are_found_are_not_overwritten(self):
        take = self.mapped()
        url = f"/sessions/{take.pk}"

        def edit_meanwhile(*given, **more):
            step = self.client.get(f"{url}/map").json()["step"]
            self.post(f"{url}/edit", step=step, kind="one", beat=6)
            return analyse(*given, **more)

        with mock.patch("studio.desk.find_job.analyse", edit_meanwhile):
            job = self.work(Job.objects.create(session=take, kind=FIND))
        self.assertEqual(job.state, Job.State.FAILED)
        self.assertIn("kept as a version", job.message)
        now = Session.objects.get(pk=take.pk)
        self.assertEqual(now.step.name, "Beat 1 moved to bar 2 beat 3")
        aside = now.steps.exclude(version="").get()
        history.go_to(now, aside)
        # what was said meanwhile is obeyed there, too
        self.assertTrue(all(holds(s, now.tempo_map) for s in document_of(now).statements))

    def test_a_map_made_by_hand_while_beats_are_found_for_the_first_time_is_kept(self):
        take = self.session(self.wav(), title="By hand")
        url = f"/sessions/{take.pk}"

        def make_one_meanwhile(*given, **more):
            answer = self.post(f"{url}/edit", step=None, kind="rough", bpm=100, meter="4/4", at=1.0)
            self.assertEqual(answer.status_code, 200, answer.content)
            return analyse(*given, **more)

        with mock.patch("studio.desk.find_job.analyse", make_one_meanwhile):
            job = self.work(Job.objects.create(session=take, kind=FIND))
        self.assertEqual(job.state, Job.State.FAILED)
        now = Session.objects.get(pk=take.pk)
        bpm = 60 / np.diff(now.tempo_map.beats().seconds)
        np.testing.assert_allclose(bpm, 100, atol=1e-6)
        aside = now.steps.exclude(version="").get().tempo_map
        np.testing.assert_allclose(60 / np.diff(aside.beats().seconds), 120, atol=2)
