"""The history of a map: where a step stands, what is read for it, and what other requests leave unread."""

import importlib
from unittest import mock

import numpy as np
from django.apps import apps
from django.db import connection
from django.test.utils import CaptureQueriesContext

from core.tempomap import TempoMap
from studio.analysis.models import Analysis
from studio.desk import history, models
from studio.desk.models import MapStep
from tests.studio.base import StudioCase


def even(bpm):
    return TempoMap.from_beats(1 + 60 / bpm * np.arange(33))


class Places(StudioCase):
    def setUp(self):
        super().setUp()
        self.take = self.session()
        self.steps = [history.record(self.take, even(bpm), f"at {bpm}") for bpm in (100, 110, 120)]

    def test_each_step_knows_how_many_lie_before_it(self):
        self.assertEqual([s.place for s in self.steps], [0, 1, 2])

    def test_another_way_from_an_earlier_step_counts_from_there(self):
        history.undo_redo(self.take, -2)
        other = history.record(self.take, even(90), "at 90")
        self.assertEqual(other.place, 1)
        line, here = history.line(self.take)
        self.assertEqual(([s.name for s in line], here), (["at 100", "at 90"], other.place))

    def test_what_an_undo_and_another_edit_left_is_listed_and_one_press_away(self):
        made = self.mapped()
        start = made.step_id

        def edit(**fields):
            made.refresh_from_db()
            self.post(f"/sessions/{made.pk}/edit", step=made.step_id, kind="pin", **fields)

        edit(beat=4)
        made.refresh_from_db()
        left = made.step_id
        self.post(f"/sessions/{made.pk}/undo", by=-1, step=left)
        self.assertEqual(history.line_and_aside(made)[2], [])  # redo still reaches it
        edit(beat=8)
        made.refresh_from_db()
        self.assertEqual([r.pk for r in history.line_and_aside(made)[2]], [left])
        page = self.client.get(f"/sessions/{made.pk}/panel/check").content.decode()
        self.assertIn("Left by an undo", page)
        self.assertIn(f'data-step="{left}"', page)
        self.post(f"/sessions/{made.pk}/undo", to=left, step=made.step_id)
        made.refresh_from_db()
        self.assertEqual(made.step_id, left)
        self.assertNotEqual(left, start)

    def test_a_long_history_is_listed_in_part(self):
        made = self.mapped()
        for k in range(1, 12):
            made.refresh_from_db()
            self.post(f"/sessions/{made.pk}/edit", step=made.step_id, kind="pin", beat=k)
        with mock.patch("studio.desk.views.STEPS_SHOWN", 5):
            page = self.client.get(f"/sessions/{made.pk}/panel/check").content.decode()
            self.assertIn("6 earlier steps", page)
            self.assertEqual(page.count("data-step="), 6)
            more = self.client.get(f"/sessions/{made.pk}/panel/check?steps=100").content.decode()
            self.assertEqual(more.count("data-step="), 12)

    def test_the_place_is_that_in_the_line_wherever_one_goes(self):
        for step in self.steps:
            history.go_to(self.take, step)
            self.assertEqual(history.line(self.take)[1], step.place)

    def test_steps_of_before_are_counted_when_the_database_is_brought_up_to_date(self):
        history.undo_redo(self.take, -1)
        branch = history.record(self.take, even(95), "at 95")
        MapStep.objects.update(place=0)
        importlib.import_module("studio.desk.migrations.0006_place_in_history").count_steps(
            apps, mock.Mock(connection=connection)
        )
        places = dict(MapStep.objects.values_list("pk", "place"))
        self.assertEqual([places[s.pk] for s in (*self.steps, branch)], [0, 1, 2, 2])


class Reading(StudioCase):
    """What an edit and the page's questions cost: the long texts stay in the database."""

    def setUp(self):
        super().setUp()
        self.take = self.session()
        self.step = history.record(self.take, even(100), "Beats found")
        Analysis.objects.create(session=self.take, features_version=1, alternatives=[{"name": "x" * 5000}])

    def asked(self, act):
        with CaptureQueriesContext(
            connection,
        ) as queries:
            answer = act()
        self.assertEqual(answer.status_code, 200)
        return [q["sql"] for q in queries if q["sql"].startswith("SELECT")]

    def test_an_edit_reads_no_map_that_is_in_memory_and_no_analysis(self):
        url = f"/sessions/{self.take.pk}/edit"
        said = {"kind": "nudge", "beat": 5, "by": 0.01, "step": self.step.pk}
        for sql in self.asked(lambda: self.post(url, **said)):
            self.assertNotIn('"map"', sql)
            self.assertNotIn('"analysis_analysis"', sql)

    def test_a_map_that_is_not_in_memory_is_read_and_is_the_same(self):
        models._recent.clear()
        with CaptureQueriesContext(connection) as queries:
            step = MapStep.objects.defer("map").get(pk=self.step.pk)
            read = step.tempo_map
        self.assertEqual(read, even(100))
        self.assertTrue(any('"desk_piece"' in q["sql"] for q in queries))
        with self.assertNumQueries(0):
            self.assertIs(step.tempo_map, read)

    def test_the_jobs_that_are_asked_for_all_the_time_read_neither(self):
        for sql in self.asked(lambda: self.client.get(f"/sessions/{self.take.pk}/jobs")):
            self.assertNotIn('"analysis_analysis"', sql)
            self.assertNotIn('"desk_mapstep"."map"', sql)

    def test_no_more_maps_than_some_are_kept_in_memory(self):
        for k in range(models._recent.most + 10):
            history.record(self.take, even(60 + k), f"step {k}")
        self.assertLessEqual(len(models._recent), models._recent.most)
        self.take.refresh_from_db()
        self.assertEqual(self.take.step.tempo_map, even(60 + models._recent.most + 9))

    def test_what_is_written_is_what_was_made_to_the_bit(self):
        rng = np.random.default_rng(1)
        made = TempoMap.from_beats(np.cumsum(0.5 + 0.01 * rng.standard_normal(64)) + 1 / 3)
        step = history.record(self.take, made, "wander")
        models._recent.clear()
        read = MapStep.objects.get(pk=step.pk).tempo_map
        np.testing.assert_array_equal(read.seconds, made.seconds)
        np.testing.assert_array_equal(read.quarters, made.quarters)
        self.assertEqual(made.to_json(), read.to_json())
