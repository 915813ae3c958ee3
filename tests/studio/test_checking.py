"""Reach, locks, stretches, taps, marks, doubts, versions and the fold, as the page asks for them."""

import base64
import json
from unittest import mock

import numpy as np

from core.document.commands import Ratio
from core.editing.remedies import trusted
from core.tracking.doubts.doubt import Doubt, Remedy
from studio.desk import find_job, history
from studio.desk.find_job import FIND
from studio.desk.models import Mark
from studio.jobs.models import Job
from tests.studio.base import PreparedCase

HALF = Ratio("1:2")


class Checking(PreparedCase):
    def prepare(self):
        self.session_ = self.mapped()
        self.url = f"/sessions/{self.session_.pk}"
        self.state = self.client.get(f"{self.url}/map").json()
        self.first = self.state["grid"]["first"]

    def edit(self, **said):
        answer = self.post(f"{self.url}/edit", step=self.state["step"], **said)
        if answer.status_code == 200 and not said.get("preview"):
            self.state = answer.json()
        return answer

    @property
    def times(self):
        return np.array(self.state["grid"]["time"])

    def stretch(self, a, b):
        return [float(self.times[a]), float(self.times[b])]


class Reach(Checking):
    def test_onward_moves_all_that_follow_and_leaves_all_before(self):
        before = self.times
        self.edit(kind="nudge", beat=self.first + 8, by=0.02, reach="onward")
        np.testing.assert_array_equal(self.times[:8], before[:8])
        np.testing.assert_allclose(self.times[8:], before[8:] + 0.02, atol=1e-6)
        self.assertIn("all that follow", self.state["name"])

    def test_to_the_pins_is_solved_again_and_no_farther(self):
        for beat in (4, 16):
            self.edit(kind="pin", beat=self.first + beat)
        before = self.times
        self.edit(kind="move", beat=self.first + 10, to=float(before[10]) + 0.05, free=True, reach="pins")
        np.testing.assert_array_equal(self.times[:5], before[:5])
        np.testing.assert_array_equal(self.times[16:], before[16:])
        self.assertAlmostEqual(self.times[10], before[10] + 0.05, places=6)

    def test_the_whole_map(self):
        before = self.times
        self.edit(kind="shift", by=0.04)
        np.testing.assert_allclose(self.times, before + 0.04, atol=1e-6)

    def test_to_the_next_attack(self):
        before = self.times
        self.edit(kind="to-attack", beat=self.first + 6, by=-1, reach="onward")
        self.assertEqual(self.edit(kind="to-attack", beat=self.first + 6, by=1).status_code, 422)  # into the next beat
        self.edit(kind="nudge", beat=self.first + 6, by=-0.02)
        self.edit(kind="to-attack", beat=self.first + 6, by=1)
        self.assertAlmostEqual(self.times[6], before[6], delta=0.005)

    def test_unpinned_again(self):
        self.edit(kind="pin", beat=self.first + 6)
        self.assertEqual(self.state["grid"]["pins"], [self.first + 6])
        self.edit(kind="pin", beat=self.first + 6, on=False)
        self.assertEqual(self.state["grid"]["pins"], [])


class Tempo(Checking):
    def test_a_tempo_drawn_in_the_contour_moves_the_next_beat_only(self):
        before = self.times
        self.edit(kind="tempo", beat=self.first + 8, bpm=110)
        self.assertAlmostEqual(self.times[9] - self.times[8], 60 / 110, places=6)
        np.testing.assert_array_equal(np.delete(self.times, 9), np.delete(before, 9))
        self.assertEqual(self.edit(kind="tempo", beat=self.first + 8, bpm=4).status_code, 422)


class Stretches(Checking):
    def test_every_ratio_tells_its_name_and_stays_in_its_stretch(self):
        before = self.times
        self.edit(kind="ratio", ratio="2:1", stretch=self.stretch(4, 12))
        self.assertIn("Double the tempo from bar", self.state["name"])
        self.assertEqual(len(self.times), len(before) + 8)
        np.testing.assert_array_equal(self.times[:5], before[:5])
        np.testing.assert_array_equal(self.times[20:], before[12:])

    def test_a_ratio_that_does_not_fit_says_why(self):
        answer = self.edit(kind="ratio", ratio="2:3", stretch=self.stretch(4, 12))
        self.assertEqual(answer.status_code, 422)
        self.assertIn("choose a stretch of 3, 6, 9 or so on", answer.json()["error"])

    def test_thinning_previews_points_and_error(self):
        shown = self.edit(kind="thin", within=0.01, preview=True).json()
        self.assertRegex(shown["name"], r"Fewest points: \d+ points, [\d.]+ ms off at most")

    def test_this_stretch_is_two_bars(self):
        before = self.times
        self.edit(kind="ratio", ratio="2:1", stretch=self.stretch(8, 16))  # spoiled
        self.edit(kind="bars", bars=2, stretch=[float(before[8]), float(before[16])])
        np.testing.assert_allclose(self.times, before, atol=0.012)
        self.assertIn("2 bars at 120", self.state["name"])

    def test_tapped_beats_replace_what_they_cover(self):
        before = self.times
        taps = before[8:17] + 0.04
        self.edit(kind="tap", taps=taps.tolist())
        np.testing.assert_array_equal(self.times[:8], before[:8])
        np.testing.assert_allclose(self.times[8:17], before[8:17], atol=0.006)

    def test_a_rough_start_needs_no_map(self):
        self.session_.step = None
        self.session_.save()
        self.state["step"] = None
        self.assertEqual(self.edit(kind="ratio", ratio="1:2").status_code, 422)
        self.edit(kind="rough", bpm=100, at=1.0, meter="3/4")
        self.assertAlmostEqual(float(np.diff(self.times[:2])[0]), 0.6, places=6)
        self.assertEqual(self.state["grid"]["meters"][0]["text"], "3/4")

    def test_the_music_ends_here(self):
        self.edit(kind="ends", beat=self.first + 20)
        self.assertEqual(len(self.times), 21)


class Marks(Checking):
    def mark(self, **said):
        return self.post(f"{self.url}/mark", **said)

    def test_a_lock_refuses_whatever_would_change_it(self):
        self.mark(kind="lock", stretch=self.stretch(4, 12))
        before = self.client.get(f"{self.url}/map").json()["step"]  # the lock is a step
        for said in (
            {"kind": "nudge", "beat": self.first + 6, "by": 0.01},
            {"kind": "ratio", "ratio": "2:1"},
            {"kind": "shift", "by": 0.01},
            {"kind": "remove", "beat": self.first + 5},
            {"kind": "downbeat", "by": 1},  # lines and numbers are locked, too
        ):
            answer = self.edit(**said)
            self.assertEqual(answer.status_code, 422, said)
            self.assertIn("Locked", answer.json()["error"])
        self.assertEqual(self.client.get(f"{self.url}/map").json()["step"], before)
        self.assertEqual(self.edit(kind="nudge", beat=self.first + 20, by=0.01).status_code, 200)

    def test_a_new_search_leaves_what_is_locked(self):
        self.edit(kind="nudge", beat=self.first + 8, by=0.013)
        self.edit(kind="pin", beat=self.first + 8, on=False)
        self.mark(kind="lock", stretch=self.stretch(6, 12))
        before = self.times
        job = self.work(Job.objects.create(session=self.session_, kind=FIND))
        self.assertEqual(job.state, Job.State.DONE, job.message)
        found = self.client.get(f"{self.url}/map").json()["grid"]
        kept = [t for t in found["time"] if before[6] - 1e-6 <= t <= before[12] + 1e-6]
        np.testing.assert_allclose(kept, before[6:13], atol=1e-6)
        self.assertEqual(found["pins"], [])

    def test_a_search_that_cannot_leave_it_says_so_and_changes_nothing(self):
        self.mark(kind="lock", stretch=self.stretch(6, 12))
        self.session_.slowest, self.session_.fastest = 30, 40
        self.session_.save()
        job = self.work(Job.objects.create(session=self.session_, kind=FIND))
        self.assertEqual(job.state, Job.State.FAILED)
        self.assertIn("Locked", job.message)
        self.assertEqual(self.client.get(f"{self.url}/map").json()["step"], self.state["step"])

    def test_a_section_is_renamed(self):
        made = self.mark(kind="section", stretch=self.stretch(4, 12)).json()["marks"][0]
        self.assertEqual(made["name"], "Section 1")
        self.assertEqual(self.mark(rename=made["id"], name="Bridge").json()["marks"][0]["name"], "Bridge")

    def test_sections_follow_the_map(self):
        line = next(i for i, b in enumerate(self.state["grid"]["beat"]) if b == 1 and i > 6)
        made = self.mark(kind="section", name="Verse", stretch=[self.times[line] + 0.1, self.times[line + 8]]).json()
        self.assertAlmostEqual(made["marks"][0]["start"], self.times[line], places=6)
        self.edit(kind="nudge", beat=self.first + line, by=0.03)
        moved = self.client.get(f"{self.url}/marks").json()["marks"][0]
        self.assertAlmostEqual(moved["start"], self.times[line], places=6)
        left = self.mark(remove=moved["id"]).json()["marks"]
        self.assertEqual([m["kind"] for m in left], ["pins"])  # the nudge pinned its beat

    def test_no_click_where_there_is_no_beat(self):
        a, b = self.stretch(4, 12)
        before = len(self.client.get(f"{self.url}/click").json()["samples"])
        self.mark(kind="free", stretch=[a, b])
        self.assertEqual(len(self.client.get(f"{self.url}/click").json()["samples"]), before - 8)

    def test_a_mark_needs_a_stretch(self):
        self.assertEqual(self.mark(kind="lock", stretch=[1.0, 1.0]).status_code, 422)

    def test_a_dismissed_doubt_does_not_come_back(self):
        at = float(self.times[6])
        doubt = Doubt(
            "jump",
            at - 0.2,
            at + 0.2,
            2,
            self.first + 6,
            2,
            "The tempo jumps.",
            [Remedy("x", HALF)],
        )
        with mock.patch("studio.desk.doubt_views.review", return_value=(np.zeros(0), [doubt])):
            self.edit(kind="pin", beat=self.first + 20)
            self.assertEqual(len(self.client.get(f"{self.url}/doubts").json()["list"]), 1)
            self.mark(kind="fine", name="jump", stretch=[at - 0.2, at + 0.2])
            self.assertEqual(self.client.get(f"{self.url}/doubts").json()["list"], [])
            self.assertEqual(Mark.objects.get().kind, Mark.Kind.FINE)


class Doubts(Checking):
    def test_the_library_counts_what_the_desk_counts(self):
        self.edit(kind="shift", by=0.035)
        left = len(self.client.get(f"{self.url}/doubts").json()["list"])
        self.assertGreater(left, 0)
        self.assertIn(f"{left} doubt", self.client.get("/").content.decode())
        for doubt in self.client.get(f"{self.url}/doubts").json()["list"]:
            self.post(f"{self.url}/mark", kind="fine", name=doubt["kind"], stretch=[0, 1000])
        self.assertEqual(self.client.get(f"{self.url}/doubts").json()["list"], [])
        self.assertContains(self.client.get("/"), "<td>Sure</td>")

    def test_how_many_beats_a_bar_has_is_not_asked_where_it_was_said(self):
        """Of all bars, at Find or from here on; one bar's own meter says nothing of the others."""
        doubt = Doubt("bar length", 0.0, float(self.times[-1]) + 1, 1, self.first, 2, "Three or four?", [])

        def asked():
            return [d["kind"] for d in self.client.get(f"{self.url}/doubts").json()["list"]]

        with mock.patch("studio.desk.doubt_views.review", return_value=(np.zeros(0), [doubt])):
            self.assertEqual(asked(), ["bar length"])
            self.edit(kind="meter", bar=3, meter="3/4", only=True)
            self.assertEqual(asked(), ["bar length"])
            self.edit(kind="meter", bar=1, meter="4/4")
            self.assertEqual(asked(), [])
            self.post(f"{self.url}/undo", by=-1, step=self.state["step"])
            self.assertEqual(asked(), ["bar length"])
            self.session_.meter = "4/4"
            self.session_.save()
            self.state = self.client.get(f"{self.url}/map").json()
            self.edit(kind="pin", beat=self.first + 4)
            self.assertEqual(asked(), [])

    def test_a_map_that_is_late_is_doubted_and_put_right(self):
        before = self.times
        self.edit(kind="shift", by=0.035)
        found = self.client.get(f"{self.url}/doubts").json()["list"]
        self.assertEqual(found[0]["kind"], "late")
        self.edit(**json.loads(found[0]["remedies"][0]["json"]))
        np.testing.assert_allclose(self.times, before, atol=0.004)
        kinds = [d["kind"] for d in self.client.get(f"{self.url}/doubts").json()["list"]]
        self.assertNotIn("late", kinds)

    def test_an_edit_ends_the_search_for_doubts_about_the_map_before_it(self):
        shares = []

        def edited_meanwhile(found, document, recording, usual, progress):
            if not shares:
                self.edit(kind="shift", by=0.035)
            shares.append(0.5)
            progress(0.5)
            return trusted(found, document, recording, usual, progress)

        with mock.patch("studio.desk.doubt_views.trusted", edited_meanwhile):
            self.assertEqual(self.client.get(f"{self.url}/doubts").json(), {"step": None})
            told = self.client.get(f"{self.url}/doubts").json()
        self.assertEqual(told["step"], self.state["step"])
        self.assertEqual(told["list"][0]["kind"], "late")
        self.assertEqual(len(shares), 2)

    def test_another_way_to_count_is_one_key_away_and_not_asked_again(self):
        level = Doubt("level", 0.0, 70.0, 1, 0, 2, "…", [Remedy("half the tempo", HALF)])
        before = self.times
        with mock.patch("studio.desk.doubt_views.review", return_value=(np.ones(len(before)), [level])):
            (row,) = self.client.get(f"{self.url}/doubts").json()["list"]
            (choice,) = row["remedies"]
            self.assertEqual((choice["number"], choice["choice"]), (1, "first"))
            self.edit(**json.loads(choice["json"]))
            self.assertLess(len(self.times), 0.6 * len(before))
            self.assertEqual(self.client.get(f"{self.url}/doubts").json()["list"], [])
            # one step: undo takes back the answer, too
            self.state = self.post(f"{self.url}/undo", by=-1, step=self.state["step"]).json()
            np.testing.assert_array_equal(self.times, before)
            self.assertEqual(len(self.client.get(f"{self.url}/doubts").json()["list"]), 1)

    def test_music_behind_the_end_is_taken_in_by_a_key_and_not_asked_about_again(self):
        before = self.times
        self.edit(kind="ends", beat=self.first + len(before) - 13)
        self.session_.marks.all().delete()  # as if the search had ended there
        (row,) = self.ends()
        (choice,) = row["remedies"]
        self.assertEqual(choice["choice"], "first")
        self.edit(**json.loads(choice["json"]))
        self.assertLess(np.abs(self.times[-12:] - before[-12:]).max(), 0.03)
        self.assertEqual(self.ends(), [])
        # an end that was said is none to ask about, though music goes on
        self.edit(kind="ends", beat=self.first + len(before) - 13)
        self.assertEqual(self.ends(), [])

    def ends(self):
        found = self.client.get(f"{self.url}/doubts").json()["list"]
        return [d for d in found if d["kind"] == "end" and d["start"] > self.times[len(self.times) // 2]]

    def test_a_search_that_counts_otherwise_asks_again(self):
        marks, found = self.session_.marks.filter(kind=Mark.Kind.FINE), self.session_.tempo_map
        self.post(f"{self.url}/mark", kind="fine", name="level", stretch=[0, 1000])
        self.post(f"{self.url}/mark", kind="fine", name="weak", stretch=[10, 12])
        find_job._ask_again(self.session_, found, found)
        self.assertEqual(marks.count(), 2)
        self.edit(kind="ratio", ratio="2:1")
        self.session_.refresh_from_db()
        find_job._ask_again(self.session_, found, self.session_.tempo_map)
        self.assertEqual([m.name for m in marks], ["weak"])

    def same(self):
        found = self.client.get(f"{self.url}/doubts").json()["list"]
        return [d for d in found if d["kind"] == "same"]

    def test_what_was_put_right_in_one_place_is_offered_in_another_and_can_be_dismissed(self):
        right, here, there = self.times, self.stretch(4, 12), self.stretch(20, 36)
        for stretch in (here, there):
            self.edit(kind="ratio", ratio="2:1", stretch=stretch)
        self.assertEqual(self.same(), [])  # whoever doubled it meant it
        self.session_.refresh_from_db()
        history.record(self.session_, self.session_.step.tempo_map, history.FOUND)  # as if a search had found it so
        self.state = self.client.get(f"{self.url}/map").json()
        self.assertEqual(self.same(), [])
        self.edit(kind="ratio", ratio="1:2", stretch=here)
        halved = self.state
        (doubt,) = self.same()
        remedy = json.loads(doubt["remedies"][0]["json"])
        self.edit(**remedy)
        off = np.abs(self.times[:, None] - right[None, :]).min(axis=1)
        self.assertLess(np.count_nonzero(off > 0.02), 6)
        self.assertEqual(self.same(), [])
        self.post(f"{self.url}/undo", by=-1, step=self.state["step"])
        self.state = halved
        self.assertEqual(len(self.same()), 1)
        self.edit(kind="nudge", beat=self.first + 2, by=0.004)
        self.assertEqual(len(self.same()), 1)
        self.post(f"{self.url}/mark", kind="fine", name="same", stretch=[doubt["start"], doubt["end"]])
        self.assertEqual(self.same(), [])


class Versions(Checking):
    def test_named_versions_are_found_again_and_compared(self):
        original, before = self.state["step"], self.times
        self.post(f"{self.url}/version", name="As found")
        self.edit(kind="shift", by=0.01)
        self.edit(kind="ratio", ratio="1:2")
        self.assertIn("As found", self.client.get(f"{self.url}/panel/check").content.decode())
        differs = self.client.get(f"{self.url}/compare/{original}").json()
        np.testing.assert_allclose(differs["ms"], -10, atol=1e-3)
        self.state = self.post(f"{self.url}/undo", to=original, step=self.state["step"]).json()
        np.testing.assert_array_equal(self.times, before)
        self.assertEqual(self.post(f"{self.url}/undo", to=original, step=0).status_code, 409)

    def test_the_click_of_another_version(self):
        original = self.state["step"]
        first = self.client.get(f"{self.url}/click").json()["samples"]
        self.edit(kind="ratio", ratio="2:1")
        self.assertEqual(self.client.get(f"{self.url}/click?step={original}").json()["samples"], first)


class Folding(Checking):
    def test_attacks_of_a_right_map_stand_in_columns(self):
        track = self.session_.tracks.get().pk
        data = self.client.get(f"{self.url}/fold/{track}").json()
        self.assertEqual(sum(data["beats"]) * data["columns"], len(base64.b64decode(data["energy"])))
        place = np.array(data["place"])
        self.assertLess(np.abs(place - np.round(place)).max() * 500, 5)  # ms at 120
        self.edit(kind="offbeat", share=0.25)
        place = np.array(self.client.get(f"{self.url}/fold/{track}").json()["place"])
        np.testing.assert_allclose(np.median(np.mod(place, 1)), 0.75, atol=0.02)

    def test_attacks_of_a_track(self):
        track = self.session_.tracks.get().pk
        found = self.client.get(f"/tracks/{track}/attacks").json()
        self.assertGreaterEqual(len(found["seconds"]), 40)
        self.assertEqual(len(found["seconds"]), len(found["strength"]))
