"""The desk's requests: edits, history, what is drawn, what is played, what is delivered."""

import base64
import csv
import io
from unittest import mock

import mido
import numpy as np
import soundfile as sf

from core import audio
from core.document.commands import Ratio
from core.tempomap import TempoMap
from core.tracking.doubts.doubt import Doubt, Remedy
from studio.analysis.models import latest
from studio.caches import clear_all
from studio.desk import history
from studio.desk.find_job import FIND
from studio.desk.recording import SessionRecording
from studio.desk.views import BLOCK
from studio.jobs.models import Job
from tests.studio.base import PreparedCase, StudioCase

HALF = Ratio("1:2")


class Editing(PreparedCase):
    def prepare(self):
        self.session_ = self.mapped()
        self.url = f"/sessions/{self.session_.pk}"
        self.state = self.client.get(f"{self.url}/map").json()

    def edit(self, **said):
        answer = self.post(f"{self.url}/edit", step=self.state["step"], **said)
        if answer.status_code == 200 and not said.get("preview"):
            self.state = answer.json()
        return answer

    def line(self):
        """The names of the steps that undo and redo pass."""
        self.session_.refresh_from_db()
        steps, _ = history.line(self.session_)
        return [step.name for step in steps]

    def test_a_move_snaps_to_the_attack_pins_and_is_named(self):
        time = self.state["grid"]["time"][5]
        index = self.state["grid"]["first"] + 5
        answer = self.edit(kind="move", beat=index, to=time + 0.02, snap_within=0.03).json()
        self.assertLess(abs(answer["grid"]["time"][5] - time), 0.002)  # back to the attack under it
        self.assertEqual(answer["grid"]["pins"], [index])
        self.assertRegex(answer["name"], r"^Moved bar \d+( beat \d)? by")

    def test_a_modifier_frees_it(self):
        time, index = self.state["grid"]["time"][5], self.state["grid"]["first"] + 5
        moved = self.edit(kind="move", beat=index, to=time + 0.02, snap_within=0.03, free=True).json()
        self.assertAlmostEqual(moved["grid"]["time"][5], time + 0.02, places=6)
        others = [t for i, t in enumerate(moved["grid"]["time"]) if i != 5]
        self.assertEqual(others, [t for i, t in enumerate(self.state["grid"]["time"]) if i != 5])

    def test_a_preview_changes_nothing(self):
        before = self.session_.steps.count()
        shown = self.edit(kind="ratio", ratio="2:1", preview=True).json()
        self.assertGreater(len(shown["grid"]["time"]), len(self.state["grid"]["time"]) * 1.9)
        self.assertEqual(self.session_.steps.count(), before)

    def test_undo_and_redo_walk_named_steps(self):
        self.edit(kind="ratio", ratio="2:1")
        self.edit(kind="downbeat", by=1)
        self.assertEqual(self.line(), ["Beats found", "Double the tempo", "Downbeat 1 beat later"])
        back = self.post(f"{self.url}/undo", by=-2, step=self.state["step"]).json()
        self.assertEqual((back["here"], len(self.line())), (0, 3))
        on = self.post(f"{self.url}/undo", by=1, step=back["step"]).json()
        self.assertEqual(on["here"], 1)
        self.state = on
        self.edit(kind="ratio", ratio="1:2")  # another way from here on; the old one stays in the database
        self.assertEqual(self.line(), ["Beats found", "Double the tempo", "Half the tempo"])
        self.assertEqual(self.session_.steps.count(), 4)

    def test_a_later_edit_on_an_old_map_is_refused_with_what_changed(self):
        old = self.state["step"]
        self.edit(kind="ratio", ratio="2:1")
        late = self.post(f"{self.url}/edit", step=old, kind="ratio", ratio="1:2")
        self.assertEqual(late.status_code, 409)
        self.assertIn("another window", late.json()["error"])
        self.assertEqual(late.json()["step"], self.state["step"])
        with self.assertRaises(history.Stale):
            history.record(self.session_, self.session_.step.tempo_map, "late", on=old)

    def test_edits_that_cannot_be_say_why_and_leave_the_map(self):
        for said in (
            {"kind": "move", "beat": 5, "to": 0.1},
            {"kind": "meter", "bar": 1, "meter": "x"},
            {"kind": "nonsense"},
            {"kind": "move"},
            {"kind": "remove", "beat": 900},
        ):
            answer = self.edit(**said)
            self.assertEqual(answer.status_code, 422, said)
            self.assertTrue(answer.json()["error"].endswith("."))
        self.assertEqual(self.session_.steps.count(), 1)

    def test_one_meter_insert_and_remove(self):
        count = len(self.state["grid"]["time"])
        beat = self.state["grid"]["first"] + 9
        self.edit(kind="one", beat=beat)
        self.assertEqual(self.state["grid"]["beat"][9], 1)
        bar = self.state["grid"]["bar"][12]
        self.edit(kind="meter", bar=bar, meter="3/4", only=True)
        self.assertEqual(self.state["grid"]["meters"][1]["text"], "3/4")
        middle = np.mean(self.state["grid"]["time"][20:22])
        self.edit(kind="insert", to=middle, free=True)
        self.assertEqual(len(self.state["grid"]["time"]), count + 1)
        self.edit(kind="remove", beat=self.state["grid"]["first"] + 21)
        self.assertEqual(len(self.state["grid"]["time"]), count)

    def test_panels_tell_of_the_map(self):
        for stage in ("gather", "guide", "find", "check", "follow", "deliver"):
            self.assertEqual(self.client.get(f"{self.url}/panel/{stage}").status_code, 200)
        text = self.client.get(f"{self.url}/panel/check?beat=4").content.decode()
        self.assertIn("120.0", text)
        refused = self.client.post(f"{self.url}/options", {"slowest": "90", "fastest": "80", "meter": ""})
        self.assertContains(refused, "rises", status_code=422)
        times = {"slowest": "50", "fastest": "70", "meter": "", "music_from": "x"}
        self.assertContains(self.client.post(f"{self.url}/options", times), "is no time", status_code=422)
        times |= {"music_from": "0:20", "music_to": "0:21.5"}
        self.assertContains(self.client.post(f"{self.url}/options", times), "at least 4 seconds", status_code=422)
        self.client.post(
            f"{self.url}/options",
            {
                "slowest": "50",
                "fastest": "70",
                "meter": "3/4",
                "steady": "free",
                "music_from": "2,5",
                "music_to": "0:19",
            },
        )
        self.session_.refresh_from_db()
        self.assertEqual((self.session_.tracking_options.tempo, self.session_.meter), ((50, 70), "3/4"))
        self.assertEqual((self.session_.tracking_options.start, self.session_.tracking_options.end), (2.5, 19.0))
        self.assertIs(self.session_.tracking_options.exact_tempo, False)


class PlayedAndDrawn(StudioCase):
    def test_blocks_hold_the_tracks_samples(self):
        one, two = self.wav("a.wav"), self.wav("b.wav", 1 + 0.5 * np.arange(20), rate=44_100)
        session = self.session(one, two)
        ids = [t.pk for t in session.tracks.all()]
        data = self.client.get(f"/sessions/{session.pk}/blocks/2?tracks={ids[1]},{ids[0]}").content
        got = np.frombuffer(data, np.float32).reshape(2, -1)
        self.assertEqual(got.shape[1], BLOCK)
        for row, path in zip(got, (session.tracks.last().source, session.tracks.first().source), strict=True):
            np.testing.assert_array_equal(row, audio.read(path, 2 * BLOCK, BLOCK)[:, 0])
        past = self.client.get(f"/sessions/{session.pk}/blocks/900?tracks={ids[0]}").content
        self.assertFalse(np.frombuffer(past, np.float32).any())
        for gone in ("", "x", f"{ids[0]},99999"):
            self.assertEqual(self.client.get(f"/sessions/{session.pk}/blocks/0?tracks={gone}").status_code, 404)

    def test_peaks_and_samples_come_in_tiles(self):
        session = self.mapped()
        track = session.tracks.get()
        tile = np.frombuffer(self.client.get(f"/tracks/{track.pk}/peaks/64/1").content, np.int16).reshape(-1, 2)
        samples = audio.read(track.source, 4096 * 64, 4096 * 64)[:, 0]
        np.testing.assert_allclose(tile[:, 1] / 32767, samples.reshape(-1, 64).max(axis=1), atol=2e-5)
        raw = np.frombuffer(self.client.get(f"/tracks/{track.pk}/samples/3").content, np.float32)
        np.testing.assert_array_equal(raw, audio.read(track.source, 3 * 4096, 4096)[:, 0])
        self.assertEqual(self.client.get(f"/tracks/{track.pk}/peaks/65/0").status_code, 404)

    def test_the_page_knows_how_loud_each_track_gets(self):
        session = self.mapped()
        track = session.tracks.get()

        def peak():
            return self.client.get(f"/sessions/{session.pk}/facts").json()["tracks"][0]["peak"]

        self.assertAlmostEqual(peak(), np.abs(audio.read(track.source, 0, track.frames)).max(), delta=2e-5)
        (track.folder / "peaks-16384.npy").unlink()
        clear_all()
        self.assertEqual(peak(), 0)

    def test_the_click_heard_is_the_click_written(self):
        session = self.mapped()
        url = f"/sessions/{session.pk}"
        click = self.client.get(f"{url}/click").json()
        beats = session.step.tempo_map.beats().seconds
        self.assertEqual(click["samples"], [round(t * 44_100) for t in beats if t < session.seconds])
        written, rate = sf.read(io.BytesIO(b"".join(self.client.get(f"{url}/deliver/click.wav").streaming_content)))
        self.assertEqual((rate, len(written)), (44_100, round(session.seconds * 44_100)))
        sound = np.frombuffer(base64.b64decode(click["sounds"][click["kinds"][3]]), np.float32)
        at = click["samples"][3]
        np.testing.assert_allclose(written[at : at + len(sound)], sound, atol=1e-6)
        lead = self.client.get(f"{url}/count-in?at={beats[4]}&bars=1").json()
        self.assertEqual(len(lead["samples"]), 4)
        self.assertAlmostEqual(lead["length"], 4 * 22_050, delta=100)

    def test_deliveries(self):
        session = self.mapped()
        session.title = 'Ev"il/../name 🎻'
        session.save()
        url = f"/sessions/{session.pk}/deliver"
        answer = self.client.get(f"{url}/file/map.mid")
        self.assertIn("attachment", answer["Content-Disposition"])
        self.assertNotIn("/..", answer["Content-Disposition"])
        file = mido.MidiFile(file=io.BytesIO(b"".join(answer.streaming_content)))
        self.assertEqual(file.type, 1)
        rows = list(
            csv.DictReader(io.StringIO(b"".join(self.client.get(f"{url}/file/beats.csv").streaming_content).decode()))
        )
        beats = session.step.tempo_map.beats()
        self.assertEqual(len(rows), len(beats))
        np.testing.assert_allclose([float(r["time"]) for r in rows], beats.seconds, atol=1e-6)
        bare = self.session(self.wav("z.wav", 1 + 0.7 * np.arange(20)), title="bare")
        self.assertEqual(self.client.get(f"/sessions/{bare.pk}/deliver/file/map.mid").status_code, 404)

    def test_the_library_lists_sessions(self):
        session = self.mapped()
        found = session.map_step.doubts  # by the search
        self.assertGreater(found, 0)
        self.session(title="Nothing yet")
        page = self.client.get("/").content.decode()
        for words in ("Take", f"{found} doubt{'s' * (found > 1)}", "Nothing yet", "Empty", "4/4"):
            self.assertIn(words, page)

    def test_every_bit_of_a_map_survives_the_database(self):
        session = self.session()
        times = 1 + np.cumsum(np.random.default_rng(1).uniform(0.4, 0.6, 500))
        m = TempoMap.from_beats(times, -1)
        step = history.record(session, m, "x")
        step.refresh_from_db()
        self.assertTrue((step.tempo_map.seconds == m.seconds).all())


class Doubting(StudioCase):
    def setUp(self):
        super().setUp()
        self.session_ = self.mapped()
        self.url = f"/sessions/{self.session_.pk}"

    def edit(self, **said):
        step = self.client.get(f"{self.url}/map").json()["step"]
        return self.post(f"{self.url}/edit", step=step, **said)

    def test_a_stretch_is_detected_again(self):
        grid = self.client.get(f"{self.url}/map").json()["grid"]
        first = grid["first"]
        for k, by in ((10, 0.06), (11, 0.08), (12, 0.06)):
            self.edit(kind="nudge", beat=first + k, by=by)
        # what was nudged is pinned and would stay; take the pins' step back by moving on the unpinned map
        self.client.post(f"{self.url}/undo", {"by": -3}, content_type="application/json")
        again = self.edit(kind="redetect", first=first + 8, last=first + 15)
        self.assertEqual(again.status_code, 200, again.content)
        np.testing.assert_allclose(again.json()["grid"]["time"], grid["time"], atol=0.003)
        self.assertIn("Detected again", again.json()["name"])
        self.assertEqual(self.edit(kind="redetect", first=first + 8, last=first + 9).status_code, 422)

    def test_another_reading_is_a_step_like_any_other(self):
        offered = latest(self.session_, "alternatives")["alternatives"]
        self.assertTrue(offered)
        page = self.client.get(f"{self.url}/panel/find").content.decode()
        self.assertIn(offered[0]["name"], page)
        chosen = self.session_.tempo_map
        taken = self.edit(kind="reading", number=0)
        self.assertEqual(taken.json()["name"], f"Another reading: {offered[0]['name']}")
        self.assertEqual(self.edit(kind="reading", number=99).status_code, 422)
        # whatever is made of it, it is compared with the tempos that were found
        chains = SessionRecording(self.session_).chains()
        tempos = [6000 / np.median(np.diff(chain)) for chain in chains]
        self.assertAlmostEqual(tempos[0], chosen.median_bpm, delta=1)
        self.assertTrue(any(abs(t - self.session_.tempo_map.median_bpm) < 1 for t in tempos))

    def test_a_pause_is_said_to_have_no_beats(self):
        said = self.edit(kind="free", stretch=[4.0, 6.5])
        self.assertEqual((said.status_code, said.json()["name"]), (200, "No beats from 4.0 s to 6.5 s"))
        marks = self.session_.marks.filter(kind="free")
        self.assertEqual(list(marks.values_list("start", "end")), [(4.0, 6.5)])
        self.client.post(f"{self.url}/undo", {"by": -1}, content_type="application/json")
        self.assertFalse(marks.exists())

    def test_pieces_that_a_search_found_are_kept_for_what_reads_the_map(self):
        analysis = self.session_.analyses.last()
        self.assertEqual((analysis.pieces, SessionRecording(self.session_).pieces()), ([], []))
        analysis.pieces = [(0, 500), (900, 2000)]
        analysis.save()
        self.assertEqual(SessionRecording(self.session_).pieces(), [(0, 500), (900, 2000)])

    def test_a_pin_settles_a_doubt_and_survives_a_new_search(self):
        grid = self.client.get(f"{self.url}/map").json()["grid"]
        at = grid["time"][6]
        words = "Several readings fit here."
        doubt = Doubt(
            "weak",
            at - 0.2,
            at + 0.2,
            2,
            grid["first"] + 6,
            2,
            words,
            [Remedy("again", HALF)],
        )
        with mock.patch("studio.desk.doubt_views.review", return_value=(np.zeros(0), [doubt])):
            before = self.client.get(f"{self.url}/doubts").json()
            self.assertEqual([d["reason"] for d in before["list"]], [words])
            self.assertIn(words, before["html"])
            self.edit(kind="nudge", beat=grid["first"] + 6, by=0.004)
            self.assertEqual(self.client.get(f"{self.url}/doubts").json()["list"], [])
        pinned = self.client.get(f"{self.url}/map").json()["grid"]["time"][6]
        self.work(Job.objects.create(session=self.session_, kind=FIND))
        found = self.client.get(f"{self.url}/map").json()["grid"]
        self.assertIn(pinned, found["time"])
        self.assertEqual(len(found["pins"]), 1)

    def test_searches_keep_the_level_and_the_downbeat_that_the_whole_take_was_put_on(self):
        self.edit(kind="downbeat", by=1)
        self.edit(kind="ratio", ratio="1:2")
        had = self.client.get(f"{self.url}/map").json()["grid"]["time"]
        for _ in range(2):  # what a search kept, the next one keeps as well
            self.assertEqual(self.work(Job.objects.create(session=self.session_, kind=FIND)).state, "done")
            self.state = self.client.get(f"{self.url}/map").json()
            found = self.state["grid"]["time"]
            self.assertAlmostEqual(len(found), len(had), delta=1)
            np.testing.assert_allclose(found[:8], had[:8], atol=0.02)
        self.assertEqual(self.session_.steps.filter(name=history.FOUND).count(), 3)
        self.edit(kind="ratio", ratio="2:1")
        self.work(Job.objects.create(session=self.session_, kind=FIND))
        found = self.client.get(f"{self.url}/map").json()["grid"]["time"]
        self.assertAlmostEqual(len(found), 2 * len(had), delta=2)

    def test_a_moved_downbeat_stays_moved(self):
        lines = self.session_.tempo_map.beats()
        self.edit(kind="downbeat", by=1)
        moved = lines.seconds[1:][lines.beat[1:] == 2]
        self.work(Job.objects.create(session=self.session_, kind=FIND))
        self.session_.refresh_from_db()
        found = self.session_.tempo_map.beats()
        np.testing.assert_allclose(found.seconds[found.beat == 1][:8], moved[:8], atol=0.02)
