"""The bars as a table: what it shows, and what a changed cell does."""

import re

from core.tempomap.edits import pins_of
from studio.desk.bar_table import rows_of
from studio.desk.models import MapStep
from studio.jobs.models import Job
from tests.studio.base import PreparedCase


class BarTable(PreparedCase):
    def prepare(self):
        self.take = self.session(self.wav())
        self.work(Job.objects.create(session=self.take, kind="find"))
        self.take.refresh_from_db()
        self.url = f"/sessions/{self.take.pk}/bars"

    def change(self, **fields):
        fields = {"step": self.take.step_id, **fields}
        answer = self.client.post(self.url, fields, headers={"hx-request": "true"})
        self.take.refresh_from_db()
        return answer

    def row(self, bar):
        return next(r for r in rows_of(self.take) if r.bar == bar)

    def test_it_shows_every_bar_with_its_tempo_and_how_sure_it_is(self):
        page = self.client.get(self.url).content.decode()
        rows = rows_of(self.take)
        self.assertEqual([r.bar for r in rows], list(range(1, len(rows) + 1)))
        self.assertEqual(len(re.findall(r'<tr id="bar-', page)), len(rows))
        for r in rows:
            self.assertAlmostEqual(r.bpm, 120, delta=0.5)
            self.assertAlmostEqual(r.seconds, float(self.take.tempo_map.bar_seconds(r.bar)), places=9)
            self.assertTrue(0 <= r.confidence <= 1)

    def test_a_time_a_meter_and_a_pin_are_changed(self):
        row = self.row(3)
        answer = self.change(cell="at", bar=3, beat=row.beat, at=f"{row.seconds + 0.02:.4f}".replace(".", ","))
        self.assertContains(answer, "Moved bar 3")
        self.assertAlmostEqual(self.row(3).seconds, row.seconds + 0.02, places=4)
        self.assertTrue(self.row(3).pinned)
        self.assertContains(self.change(cell="pin", bar=3, beat=row.beat), "Unpinned bar 3")
        self.assertFalse(pins_of(self.take.tempo_map).any())
        self.change(cell="meter", bar=2, beat=self.row(2).beat, meter="3/4")
        self.assertEqual([self.row(n).meter for n in (1, 2, 3)], ["4/4", "3/4", "4/4"])
        self.change(cell="meter", bar=4, beat=self.row(4).beat, meter="3/4", onward="1")
        self.assertEqual([self.row(n).meter for n in (3, 4, 5, 6)], ["4/4", "3/4", "3/4", "3/4"])

    def test_what_cannot_be_is_said_and_changes_nothing(self):
        step, row = self.take.step_id, self.row(3)
        for fields, words in (
            ({"cell": "at", "at": "-50"}, "A beat cannot"),
            ({"cell": "at", "at": "soon"}, "The time cannot be “soon”"),
            ({"cell": "at"}, "A time is a number of seconds"),
            ({"cell": "meter", "meter": "loud"}, "meter"),
            ({"cell": "colour"}, "cannot be"),
            ({"cell": "pin", "step": 0}, "Another window was faster"),
        ):
            answer = self.change(bar=3, beat=row.beat, **fields)
            self.assertContains(answer, words, status_code=422, msg_prefix=str(fields))
            self.assertEqual(self.take.step_id, step)

    def test_a_change_of_nothing_is_no_step(self):
        count = MapStep.objects.count()
        self.assertContains(self.change(cell="pin", bar=3, beat=self.row(3).beat), "Nothing changed")
        self.assertEqual(MapStep.objects.count(), count)

    def test_a_session_without_a_map_says_what_to_do(self):
        empty = self.session()
        self.assertContains(self.client.get(f"/sessions/{empty.pk}/bars"), "No map yet")
