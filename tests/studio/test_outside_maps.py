"""Maps from outside: that recordings carry, and that files hold; taken as the map or beside it, never over what was
said."""

import io
import re

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile

from core.formats import smf, tables
from core.formats.carried import CarriedMap, Section, carry
from core.tempomap import Meters, TempoMap
from studio.desk.find_job import FIND
from studio.jobs.models import Job
from studio.library.models import Session
from tests.studio.base import StudioCase

#: The strokes of StudioCase in bars of three, a second count-in bar before them.
OTHER = TempoMap.from_beats(1 + 0.5 * np.arange(40), -3, Meters.of((1, "3/4")))


class Carried(StudioCase):
    def test_a_recording_that_carries_a_map_brings_it_without_a_search(self):
        plain = self.wav()
        carry(plain, self.folder / "with map.wav", CarriedMap(OTHER, "x", (Section(2.5, 5.5, "Verse"),)))
        made = self.session(self.wav("wood.wav", 1 + 0.5 * np.arange(30)), self.folder / "with map.wav")
        answer = self.client.post(f"/sessions/{made.pk}/find?first=1")
        self.assertEqual(answer.status_code, 200)
        job = Job.objects.get(session=made, kind="carried")
        self.assertEqual(self.work(job).state, "done", job.message)
        made.refresh_from_db()
        self.assertEqual(made.tempo_map, OTHER)
        self.assertEqual(made.step.name, "Map that with map carries")
        self.assertEqual([(m.name, m.start, m.end) for m in made.marks.all()], [("Verse", 2.5, 5.5)])
        self.assertTrue(all(t.analysed for t in made.tracks.all()))
        # whoever asks for a search gets one
        self.client.post(f"/sessions/{made.pk}/find")
        self.work(Job.objects.get(session=made, kind=FIND))
        made.refresh_from_db()
        self.assertEqual(str(made.tempo_map.meters.meter_at(1)), "4/4")
        self.client.post(f"/sessions/{made.pk}/undo", {"by": -1, "step": made.step_id}, content_type="application/json")
        made.refresh_from_db()
        self.assertEqual(made.tempo_map, OTHER)

    def test_without_one_beats_are_searched_for(self):
        made = self.session(self.wav())
        self.client.post(f"/sessions/{made.pk}/find?first=1")
        self.assertEqual([j.kind for j in Job.objects.filter(session=made)], [FIND])


class FromFiles(StudioCase):
    def setUp(self):
        super().setUp()
        self.take = self.mapped()
        self.url = f"/sessions/{self.take.pk}/outside-map"

    def bring(self, name, data):
        return self.client.post(self.url, {"file": SimpleUploadedFile(name, data)})

    def now(self):
        return Session.objects.select_related("step").get(pk=self.take.pk)

    def test_where_it_fits_is_told_before_it_is_taken(self):
        late = OTHER.with_points(OTHER.seconds + 2.75, OTHER.quarters)
        before = self.take.step_id
        answer = self.bring("late.csv", tables.beats_csv(late).encode())
        self.assertContains(answer, "late.csv")
        self.assertContains(answer, "40 beats, 120.0 a minute")
        earlier = float(re.search(r"([\d.]+) s earlier", answer.content.decode())[1])
        self.assertAlmostEqual(earlier % 0.5, 0.25, delta=0.005)  # onto strokes, whichever bar fits best
        self.assertEqual(self.now().step_id, before)
        answer = self.client.post(f"{self.url}/take", {"where": "fitted"})
        self.assertIn("map-taken", answer["HX-Trigger"])
        found = self.now()
        self.assertEqual(found.step.name, "Map of late.csv")
        self.assertEqual(str(found.tempo_map.meters.meter_at(1)), "3/4")
        strokes = 1 + 0.5 * np.arange(40)
        near = np.abs(found.tempo_map.beats().seconds[8:30, None] - strokes).min(axis=1)
        self.assertLess(near.max(), 0.005)

    def test_as_written(self):
        out = io.BytesIO()
        smf.write(OTHER).file.save(file=out)
        self.bring("song.mid", out.getvalue())
        self.client.post(f"{self.url}/take", {"where": "written"})
        lines = self.now().tempo_map.bar_seconds(range(1, 6))  # the file's lead-in is its bar 1
        self.assertLess(np.abs(lines - 2.5).min(), 1e-4)

    def test_as_a_version_the_map_stays_as_it_is(self):
        before = self.now().step_id
        self.bring("other.csv", tables.beats_csv(OTHER).encode())
        self.client.post(f"{self.url}/take", {"where": "written", "how": "version"})
        self.assertEqual(self.now().step_id, before)
        version = self.take.steps.exclude(version="").get()
        self.assertEqual(version.version, "Map of other.csv")
        np.testing.assert_allclose(version.tempo_map.beats().seconds, OTHER.beats().seconds, atol=1e-6)

    def test_some_of_its_bars_are_merged_into_the_map(self):
        before = self.now().tempo_map
        self.bring("other.csv", tables.beats_csv(OTHER).encode())
        answer = self.client.post(f"{self.url}/take", {"where": "written", "from": "4", "to": "5"})
        self.assertEqual(answer.status_code, 200, answer.content)
        merged = self.now().tempo_map
        start = float(OTHER.bar_seconds(4))
        bar = int(merged.meters.bars_at(merged.quarters_at(start + 1e-6)))
        np.testing.assert_allclose(merged.bar_seconds([bar, bar + 1, bar + 2]), OTHER.bar_seconds([4, 5, 6]), atol=1e-6)
        self.assertEqual(str(merged.meters.meter_at(bar)), "3/4")
        self.assertEqual(merged.meters.meter_at(1), before.meters.meter_at(1))
        wrong = self.bring("other.csv", tables.beats_csv(OTHER).encode())
        wrong = self.client.post(f"{self.url}/take", {"where": "written", "from": "4", "to": "400"})
        self.assertContains(wrong, "That map has bars 1 to", status_code=422)

    def test_its_bar_lines_are_obeyed_by_a_new_search(self):
        self.bring("other.csv", tables.beats_csv(OTHER).encode())
        self.client.post(f"{self.url}/take", {"where": "written", "how": "lines"})
        self.assertEqual(self.take.marks.filter(kind="line").count(), len(OTHER.bar_seconds(range(1, 14))))
        job = self.work(Job.objects.get(session=self.take, kind=FIND, state="waiting"))
        self.assertEqual(job.state, "done", job.message)
        found = self.now().tempo_map
        lines = found.bar_seconds(range(1, found.bar_range[1] + 2))
        for line in OTHER.bar_seconds(range(1, 12)):
            self.assertLess(np.abs(lines - line).min(), 0.03)

    def test_what_the_engineer_pinned_stays(self):
        found = self.now()
        beat = int(found.tempo_map.beats().index[12])
        moved = float(found.tempo_map.seconds_of_beat(beat)) + 0.03
        answer = self.post(f"/sessions/{self.take.pk}/edit", kind="move", beat=beat, to=moved, step=found.step_id)
        self.assertEqual(answer.status_code, 200, answer.content)
        self.bring("other.csv", tables.beats_csv(OTHER).encode())
        self.client.post(f"{self.url}/take", {"where": "written"})
        taken = self.now().tempo_map
        self.assertEqual(str(taken.meters.meter_at(1)), "3/4")
        self.assertIn(moved, taken.seconds[taken.pins].tolist())

    def test_what_holds_no_map_is_told_and_nothing_is_changed(self):
        before = self.now().step_id
        for name, data in (("a.txt", b"four bars of nothing"), ("b.mid", b"MThd\0"), ("c.xml", b"<a/>")):
            answer = self.bring(name, data)
            self.assertContains(answer, name, status_code=422)
        self.assertEqual(self.client.post(self.url).status_code, 422)
        self.assertEqual(self.client.post(f"{self.url}/take", {"where": "written"}).status_code, 422)
        self.assertEqual(self.now().step_id, before)

    def test_a_session_without_recordings_takes_it_as_written(self):
        bare = self.session(title="bare")
        answer = self.client.post(
            f"/sessions/{bare.pk}/outside-map", {"file": SimpleUploadedFile("m.csv", tables.beats_csv(OTHER).encode())}
        )
        self.assertContains(answer, "Bar 1 at 2.500 s")
        self.client.post(f"/sessions/{bare.pk}/outside-map/take")
        bare.refresh_from_db()
        self.assertEqual(len(bare.tempo_map.beats()), 40)
