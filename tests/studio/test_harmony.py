"""Chords through the page's own addresses: found as a job, written over, handed to a pad, exported."""

import csv
import io

import numpy as np
import soundfile as sf

from studio.harmony.work import CHORDS
from studio.jobs.models import Job
from studio.library.uploads import LISTEN, add_track
from studio.parts.models import Part
from tests.core.test_chords import chord_sound
from tests.studio.base import StudioCase


class Harmony(StudioCase):
    def setUp(self):
        super().setUp()
        self.session_ = self.mapped()
        self.url = f"/sessions/{self.session_.pk}"

    def with_tones(self):
        """Chords of two seconds each from bar 1 on, at 120 a minute."""
        sounds = [
            chord_sound(p, 2, seed=i) for i, p in enumerate(([48, 64, 67], [45, 60, 64], [41, 60, 65], [43, 59, 62]))
        ]
        x = np.concatenate([np.zeros(8000, np.float32), *sounds * 2])
        path = self.folder / "tones.wav"
        sf.write(path, x, 8000)
        track = add_track(self.session_, path, path.name)
        self.work(Job.objects.create(session=self.session_, kind=LISTEN, track=track))

    def find(self):
        self.assertContains(self.client.post(f"{self.url}/chords/find"), "Listening")
        return self.work(Job.objects.get(kind=CHORDS))

    def lane(self):
        return self.client.get(f"{self.url}/chords").json()

    def edit(self, **said):
        return self.post(f"{self.url}/chords/edit", step=self.lane()["step"], **said)

    def test_found_shown_and_exported(self):
        self.with_tones()
        self.assertEqual(self.find().state, Job.State.DONE)
        lane = self.lane()
        self.assertEqual(lane["text"][:4], ["C", "Am", "F", "G"])
        lines = self.session_.step.tempo_map.bar_seconds(np.arange(1, 5))
        np.testing.assert_allclose(lane["at"][:4], lines, atol=1e-9)
        self.assertContains(self.client.get(f"{self.url}/chords/panel"), "C major")
        rows = list(csv.reader(io.StringIO(self.client.get(f"{self.url}/chords.csv").content.decode())))
        self.assertEqual(rows[1][0], "1.1.000")
        self.assertEqual(rows[1][2], "C")
        self.client.post(f"{self.url}/chords/part")
        part = Part.objects.get()
        self.assertEqual((part.name, part.instrument), ("Pad", "pad"))
        first = [n for n in part.step.stored() if n.bar == 1]
        self.assertEqual({n.pitch % 12 for n in first}, {0, 4, 7})

    def made(self, voicing):
        self.client.post(f"{self.url}/chords/part", {"voicing": voicing})
        return Part.objects.get(voicing=voicing)

    def test_a_corrected_chord_reaches_the_parts_made_from_it_until_they_are_changed_by_hand(self):
        self.edit(at=1.1, text="C")
        self.edit(at=5.2, text="F")
        strings, bass = self.made("strings"), self.made("bass")
        self.assertEqual((strings.instrument, strings.program, bass.instrument), ("strings", 48, "bass"))
        self.assertEqual([n.pitch % 12 for n in bass.now.stored()][:2], [0, 7])
        steps = self.session_.steps.count()
        self.edit(at=1.1, text="Am")
        self.assertEqual(self.session_.steps.count(), steps + 1)  # one step takes back chord and parts
        for part in (strings, bass):
            part.refresh_from_db()
        self.assertEqual({n.pitch % 12 for n in strings.now.stored() if n.bar == 1}, {9, 0, 4})
        self.assertEqual(bass.now.stored()[0].pitch % 12, 9)
        self.post(f"{self.url}/undo", by=-1, step=self.client.get(f"{self.url}/map").json()["step"])
        bass.refresh_from_db()
        self.assertEqual(bass.now.stored()[0].pitch % 12, 0)
        self.client.post(f"/parts/{bass.pk}/act", {"ties": "clock"})  # changed by hand
        bass.refresh_from_db()
        own = bass.step_id
        self.edit(at=1.1, text="Em")
        bass.refresh_from_db()
        self.assertEqual(bass.step_id, own)
        self.assertContains(self.client.get(f"{self.url}/parts/panel"), "Take the chords again")
        self.assertNotContains(self.client.post(f"/parts/{bass.pk}/from-chords"), "Take the chords again")
        bass.refresh_from_db()
        self.assertEqual(bass.now.stored()[0].pitch % 12, 4)
        self.assertEqual(self.client.post(f"/parts/{bass.pk + 99}/from-chords").status_code, 404)

    def test_written_by_hand_undone_and_done_again(self):
        self.assertEqual(self.edit(at=1.1, text="Dm7").json()["text"], ["Dm7"])
        self.assertEqual(self.edit(at=5.2, text="bb").json()["text"], ["Dm7", "Bb"])
        self.assertEqual(self.edit(at=5.2, text="").json()["text"], ["Dm7"])
        for by, text in ((-1, ["Dm7", "Bb"]), (1, ["Dm7"])):
            step = self.client.get(f"{self.url}/map").json()["step"]
            self.post(f"{self.url}/undo", by=by, step=step)
            self.assertEqual(self.lane()["text"], text)
        answer = self.edit(at=1.1, text="dear")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("no chord symbol", answer.json()["error"])
        self.assertEqual(self.lane()["text"], ["Dm7"])

    def test_two_windows(self):
        old = self.lane()["step"]
        self.edit(at=1.1, text="C")
        answer = self.post(f"{self.url}/chords/edit", step=old, at=3, text="D")
        self.assertEqual((answer.status_code, answer.json()["text"]), (409, ["C"]))

    def test_on_bars_and_back_on_beats(self):
        self.edit(at=1.6, text="C")
        beat = self.lane()["at"][0]
        self.client.post(f"{self.url}/chords/grain", {"grain": "bar"})
        self.assertAlmostEqual(self.lane()["at"][0], float(self.session_.step.tempo_map.bar_seconds(1)), places=6)
        self.client.post(f"{self.url}/chords/grain", {"grain": "beat"})
        self.assertEqual(self.lane()["at"][0], beat)

    def test_without_a_map(self):
        empty = self.session(self.wav("other.wav"))
        self.assertEqual(self.client.get(f"/sessions/{empty.pk}/chords").status_code, 404)
        job = self.work(Job.objects.create(session=empty, kind=CHORDS))
        self.assertEqual(job.state, Job.State.FAILED)
        self.assertIn("no map", job.message)

    def test_no_chords_no_pad(self):
        self.assertContains(self.client.post(f"{self.url}/chords/part"), "no chords yet")
