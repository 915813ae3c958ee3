"""Sessions made by earlier versions, brought up to date."""

from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.test import TransactionTestCase

BEFORE = [("library", "0005_usual_tempo_range"), ("analysis", None)]


class Migrations(TransactionTestCase):
    def migrate(self, targets):
        executor = MigrationExecutor(connection)
        executor.migrate(targets)
        return executor.loader.project_state([t for t in targets if t[1]]).apps

    def tearDown(self):
        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())

    def test_what_a_search_found_becomes_a_row_of_its_own(self):
        old = self.migrate(BEFORE)
        remedy = {"words": "insert", "edit": {"kind": "insert", "to": 3.0, "reach": 0.06}}
        finding = {
            "confidence": [0.9, 0.8],
            "ranks": [{"name": "kick", "weight": 1.0}],
            "doubts": [{"kind": "hold", "remedies": [remedy]}],
            "alternatives": [{"name": "half the tempo", "map": {}}],
        }
        session = old.get_model("library", "Session").objects.create(title="Old", finding=finding)
        empty = old.get_model("library", "Session").objects.create(title="Empty")
        facts = {"rate": 44_100, "channels": 1, "seconds": 5.0}
        track = old.get_model("library", "Track").objects.create(session=session, name="kick", heard=True, **facts)
        new = self.migrate([("analysis", "0002_from_sessions"), ("library", "0006_analysed_tracks")])
        row = new.get_model("analysis", "Analysis").objects.get()
        self.assertEqual((row.session_id, row.confidence, row.guides), (session.pk, [0.9, 0.8], finding["ranks"]))
        self.assertEqual(row.alternatives, finding["alternatives"])
        edit = row.doubts[0]["remedies"][0]["edit"]
        self.assertEqual(edit, {"kind": "insert", "to": 3.0, "snap_within": 0.06})
        kept = new.get_model("library", "Track").objects.get(pk=track.pk)
        self.assertEqual((kept.analysed, kept.features_version), (True, 0))  # drawn as before, analysed again by a job
        self.assertTrue(new.get_model("library", "Session").objects.filter(pk=empty.pk).exists())
