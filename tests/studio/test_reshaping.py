"""Reshaping through the server: what is wanted is a step, the result has a clock of its own, files come of it."""

import io
import json
import random
import zipfile
from unittest import mock

import mido
import numpy as np
import soundfile as sf
from django.core.files.uploadedfile import SimpleUploadedFile

from core import audio
from core.formats import smf
from core.tempomap import TempoMap
from studio.jobs.models import Job
from studio.library.models import Session
from studio.reshaping.result import result_of
from studio.reshaping.wanted import wanted_of
from studio.reshaping.work import RESHAPE
from studio.streaming import BLOCK
from tests.studio.base import PreparedCase

RATE = 44_100
#: A player who strays by up to 18 ms from 120 a minute, one beat in three.
LOOSE = 1 + 0.5 * np.arange(40) + 0.018 * np.where(np.arange(40) % 3 == 1, np.sin(np.arange(40)), 0)


class Reshaping(PreparedCase):
    def prepare(self):
        self.take = self.session(self.wav(), self.wav("wood.wav", LOOSE))
        self.work(Job.objects.create(session=self.take, kind="find"))
        self.take.refresh_from_db()
        # the map that everybody agrees on: 120, steady
        self.url = f"/sessions/{self.take.pk}"
        self.post(f"{self.url}/edit", kind="steady", step=self.take.step_id)
        self.kick, self.wood = self.take.tracks.order_by("pk")

    def fresh(self):
        return Session.objects.select_related("step").get(pk=self.take.pk)

    def ask(self, **request):
        answer = self.post(f"{self.url}/reshape", **request)
        return answer.status_code, answer.json()

    def tighten(self, **more):
        request = {"do": "tighten", "tracks": [self.wood.pk], "start": 4.9, "end": 10.9, "value": "1/4", "amount": 100}
        return self.ask(**{**request, **more})

    def samples(self, key, first=0, count=1):
        """Blocks of the second track."""
        url = f"{self.url}/blocks/{{}}?tracks={self.wood.pk}" + (f"&clock={key}" if key else "")
        data = b"".join(self.client.get(url.format(n)).content for n in range(first, first + count))
        return np.frombuffer(data, dtype=np.float32)

    def test_a_loose_player_is_tight_in_the_stretch_and_the_same_outside(self):
        status, state = self.tighten()
        self.assertEqual(status, 200)
        (row,) = state["tightenings"]
        self.assertGreater(sum(row["moved"]), 2)
        beats = self.fresh().tempo_map.seconds_at(np.round(self.fresh().tempo_map.quarters_at(row["targets"])))
        self.assertLess(np.abs(np.array(row["targets"]) - beats)[row["moved"]].max(), 1e-4)
        count = int(20 * RATE / BLOCK)
        was, now = self.samples("", 0, count), self.samples(state["key"], 0, count)
        first, last = (round(f * RATE) for f in (row["fences"][0], row["fences"][-1]))
        np.testing.assert_array_equal(now[:first], was[:first])
        np.testing.assert_array_equal(now[last:], was[last:])
        self.assertFalse(np.array_equal(now[first:last], was[first:last]))

    def test_each_change_is_a_step_and_undo_takes_it_back(self):
        before = self.fresh().step_id
        self.tighten()
        step = self.fresh().step
        self.assertEqual(step.name, "Tighten wood by 100 %")
        self.ask(do="amount", key=1, amount=40)
        self.assertEqual(wanted_of(self.take).tightenings[0].how.amount, 0.4)
        self.post(f"{self.url}/undo", by=-1, step=self.fresh().step_id)
        self.post(f"{self.url}/undo", by=-1, step=self.fresh().step_id)
        self.assertEqual(self.fresh().step_id, before)
        self.assertTrue(wanted_of(self.take).is_empty)
        self.assertIsNone(result_of(self.fresh()))
        self.post(f"{self.url}/undo", by=1, step=before)
        self.assertEqual(len(wanted_of(self.take).tightenings), 1)

    def test_a_step_of_an_earlier_version_had_nothing_reshaped(self):
        old = self.fresh().step
        content = json.loads(old.content)
        del content["state"]["reshaping"]
        type(old).objects.filter(pk=old.pk).update(content=json.dumps(content))
        self.tighten()
        self.post(f"{self.url}/undo", by=-1, step=self.fresh().step_id)
        self.assertTrue(wanted_of(self.take).is_empty)

    def test_an_attack_is_left_out_and_a_fence_is_set(self):
        _, state = self.tighten()
        row = state["tightenings"][0]
        at = next(a for a, moved in zip(row["attacks"], row["moved"], strict=True) if moved)
        _, state = self.ask(do="attack", key=1, at=at)
        row = state["tightenings"][0]
        self.assertEqual(row["moved"][row["attacks"].index(at)], False)
        _, state = self.ask(do="attack", key=1, at=at)
        self.assertEqual(state["tightenings"][0]["moved"][row["attacks"].index(at)], True)
        _, state = self.ask(do="fence", key=1, at=8.2)
        self.assertIn(8.2, state["tightenings"][0]["fences"])

    def test_conform_gives_the_page_another_clock(self):
        _, state = self.ask(do="conform", kind="tempo", bpm=100)
        key = state["key"]
        facts = self.client.get(f"{self.url}/facts?clock={key}").json()
        self.assertEqual(facts["clock"], key)
        self.assertGreater(facts["seconds"], 1.15 * self.take.seconds)
        grid = self.client.get(f"{self.url}/map?clock={key}").json()
        np.testing.assert_allclose(np.diff(grid["grid"]["time"]), 0.6, atol=1e-6)
        self.assertEqual(grid["step"], self.fresh().step_id)
        click = self.client.get(f"{self.url}/click?clock={key}").json()["samples"]
        np.testing.assert_allclose(np.diff(click), 0.6 * RATE, atol=1)
        # strokes lie on the new grid, in sound as in picture
        strokes = np.array(self.client.get(f"/tracks/{self.kick.pk}/attacks?clock={key}").json()["seconds"])
        times = np.array(grid["grid"]["time"])
        self.assertLess(np.abs(strokes[5:30, None] - times).min(axis=1).max(), 0.003)
        peaks = self.client.get(f"/tracks/{self.kick.pk}/peaks/64/0?clock={key}").content
        pairs = np.frombuffer(peaks, dtype=np.int16).reshape(-1, 2)
        loud = np.flatnonzero(pairs[:, 1] > 9000)
        begins = loud[np.diff(loud, prepend=-999) > 300] * 64 / RATE
        self.assertLess(np.abs(begins[:, None] - times).min(axis=1).max(), 0.004)
        # without the clock nothing has changed
        self.assertEqual(self.client.get(f"{self.url}/facts").json()["seconds"], self.take.seconds)

    def test_sections_and_their_order_move_along(self):
        self.post(f"{self.url}/mark", kind="section", name="Verse", stretch=[5.0, 9.0])
        section = self.take.marks.get()
        self.client.post(f"{self.url}/order/add", {"section": section.pk})
        was = self.client.get(f"{self.url}/order").json()["order"][0]
        _, state = self.ask(do="conform", kind="tempo", bpm=100)
        clocked = f"?clock={state['key']}"
        now = self.client.get(f"{self.url}/order{clocked}").json()["order"][0]
        self.assertEqual(len(now["bars"]), len(was["bars"]))
        self.assertAlmostEqual((now["end"] - now["start"]) / (was["end"] - was["start"]), 1.2, 3)
        (mark,) = self.client.get(f"{self.url}/marks{clocked}").json()["marks"]
        self.assertAlmostEqual(mark["start"], now["start"] / RATE, 2)

    def test_another_sessions_map_leads(self):
        other = self.session(self.wav("slow.wav", 2 + 0.6 * np.arange(40)), title="Slow one")
        self.work(Job.objects.create(session=other, kind="find"))
        status, state = self.ask(do="conform", kind="map", session=other.pk)
        self.assertEqual(status, 200)
        other.refresh_from_db()
        mine = self.client.get(f"{self.url}/map?clock={state['key']}").json()["grid"]
        bars = np.array(mine["bar"])[np.array(mine["beat"]) == 1][1:6]
        times = np.array(mine["time"])[np.array(mine["beat"]) == 1][1:6]
        np.testing.assert_allclose(times, other.tempo_map.bar_seconds(bars), atol=1e-6)

    def test_only_some_bars_go_to_another_map(self):
        other = self.session(self.wav("slow.wav", 2 + 0.6 * np.arange(40)), title="Slow one")
        self.work(Job.objects.create(session=other, kind="find"))
        _, state = self.ask(do="conform", kind="map", session=other.pk, first=3, last=5)
        grid = self.client.get(f"{self.url}/map?clock={state['key']}").json()["grid"]
        lengths, bars = np.diff(grid["time"]), np.array(grid["bar"])[:-1]
        np.testing.assert_allclose(lengths[(bars >= 3) & (bars <= 5)], 0.6, atol=2e-3)
        np.testing.assert_allclose(lengths[(bars < 3) | (bars > 5)], 0.5, atol=1e-3)

    def test_a_midi_files_map_leads(self):
        out = io.BytesIO()
        smf.write(TempoMap.steady(96, bars=30), "Ninety-six").file.save(file=out)
        file = SimpleUploadedFile("ninety-six.mid", out.getvalue())
        answer = self.client.post(f"{self.url}/reshape/map", {"file": file})
        self.assertEqual((answer.status_code, answer["HX-Trigger"]), (204, '{"reshaped": {}}'))
        key = self.client.get(f"{self.url}/reshape/state").json()["key"]
        grid = self.client.get(f"{self.url}/map?clock={key}").json()["grid"]
        np.testing.assert_allclose(np.diff(grid["time"])[4:30], 60 / 96, atol=1e-5)
        self.assertEqual(self.fresh().step.name, "Conform to the map of ninety-six.mid")

    def test_a_list_of_beats_leads(self):
        rows = "".join(f"{0.5 + 0.7 * k:.3f},{1 + k // 4},{1 + k % 4}\n" for k in range(60))
        file = SimpleUploadedFile("beats.csv", b"time,bar,beat\n" + rows.encode())
        self.assertEqual(self.client.post(f"{self.url}/reshape/map", {"file": file}).status_code, 204)
        key = self.client.get(f"{self.url}/reshape/state").json()["key"]
        grid = self.client.get(f"{self.url}/map?clock={key}").json()["grid"]
        np.testing.assert_allclose(np.diff(grid["time"])[4:30], 0.7, atol=1e-5)

    def test_what_is_no_map_is_refused(self):
        for file in (
            {},
            {"file": SimpleUploadedFile("x.mid", b"MThd nothing")},
            {"file": SimpleUploadedFile("x.csv", b"hello")},
        ):
            answer = self.client.post(f"{self.url}/reshape/map", file)
            self.assertEqual(answer.status_code, 422)
        self.assertTrue(wanted_of(self.take).is_empty)

    def test_what_cannot_be_is_refused_in_words_and_changes_nothing(self):
        before = self.fresh().step_id
        for request, words in [
            ({"do": "tighten", "tracks": [], "start": 1, "end": 2}, "tracks"),
            ({"do": "tighten", "tracks": [self.wood.pk], "start": 5, "end": 2}, "after it starts"),
            ({"do": "tighten", "tracks": [self.wood.pk], "start": 1, "end": 9, "target": "track"}, "another track"),
            ({"do": "tighten", "tracks": [99999], "start": 1, "end": 9}, "taken out"),
            ({"do": "conform", "kind": "tempo", "bpm": 0.001}, "tempo"),
            ({"do": "conform", "kind": "map", "session": 99999}, "another session"),
            ({"do": "amount", "key": 77}, "taken back"),
            ({"do": "hush", "track": self.wood.pk, "start": 4, "end": 4}, "stretch"),
            ({"do": "fly"}, "fly"),
        ]:
            with self.subTest(request):
                status, answer = self.ask(**request)
                self.assertEqual(status, 422)
                self.assertIn(words, answer["error"])
        infinite = self.client.post(
            f"{self.url}/reshape",
            '{"do": "hush", "track": 1, "start": 1, "end": Infinity}',
            content_type="application/json",
        )
        self.assertEqual(infinite.status_code, 422)
        broken = self.client.post(f"{self.url}/reshape", "{", content_type="application/json")
        self.assertEqual(broken.status_code, 400)
        self.assertEqual(self.fresh().step_id, before)
        self.assertTrue(wanted_of(self.take).is_empty)

    def test_a_hush_is_silence_with_fades(self):
        _, state = self.ask(do="hush", track=self.wood.pk, start=4.6, end=6.4)
        now, was = self.samples(state["key"], 0, 30), self.samples("", 0, 30)
        inside = slice(round(4.7 * RATE), round(6.3 * RATE))
        self.assertGreater(np.abs(was[inside]).max(), 0.1)
        self.assertEqual(np.abs(now[inside]).max(), 0)
        np.testing.assert_array_equal(now[: round(4.6 * RATE)], was[: round(4.6 * RATE)])
        np.testing.assert_array_equal(now[round(6.4 * RATE) :], was[round(6.4 * RATE) :])

    def test_tracks_that_move_together_share_one_warp(self):
        self.ask(do="group", tracks=[self.kick.pk, self.wood.pk])
        self.tighten()
        result = result_of(self.fresh())
        self.assertEqual([g.tracks for g in result.groups], [(self.kick.pk, self.wood.pk)])
        self.ask(do="engine", track=self.kick.pk, engine="voice")
        self.assertEqual({g.engine for g in result_of(self.fresh()).groups}, {"voice"})

    def test_the_pane_shows_all_of_it(self):
        self.tighten()
        self.ask(do="hush", track=self.kick.pk, start=4, end=6)
        self.ask(do="move", track=self.kick.pk, attack=8.0, ms=-12)
        self.ask(do="conform", kind="freedom", drift=50, jitter=0)
        text = self.client.get(f"{self.url}/panel/reshape").content.decode()
        for words in ("toward the grid (1/4)", "-12 ms", "silent", 'value="50"', "Make the reshaped tracks"):
            self.assertIn(words, text)

    def test_one_attack_goes_where_it_is_put_between_its_fences(self):
        at = float(LOOSE[13])
        _, state = self.ask(do="move", track=self.wood.pk, attack=at, to=at + 0.03)
        (move,) = state["moves"]
        self.assertAlmostEqual(move["to"], at + 0.03)
        self.assertTrue(move["fences"][0] < at < move["fences"][1])
        # once more moves it anew, and fences are kept
        _, state = self.ask(do="fences", key=move["key"], before=at - 0.1, after=at + 0.1)
        _, state = self.ask(do="move", track=self.wood.pk, attack=at, ms=-20)
        (move,) = state["moves"]
        self.assertAlmostEqual(move["to"], at - 0.02)
        np.testing.assert_allclose(move["fences"], [at - 0.1, at + 0.1])
        for before, after in ((at, at + 1), (at + 1, at - 1), (at - 0.01, at + 1)):
            self.assertEqual(self.ask(do="fences", key=move["key"], before=before, after=after)[0], 422)
        self.assertEqual(self.ask(do="fences", key=99, before=at - 1, after=at + 1)[0], 422)
        count = int(20 * RATE / BLOCK)
        was, now = self.samples("", 0, count), self.samples(state["key"], 0, count)
        first, last = round((at - 0.1) * RATE), round((at + 0.1) * RATE)
        np.testing.assert_array_equal(now[:first], was[:first])
        np.testing.assert_array_equal(now[last:], was[last:])

    def test_the_tracks_are_written_with_both_maps(self):
        _, state = self.ask(do="conform", kind="tempo", bpm=100)
        self.assertEqual(self.client.get(f"{self.url}/reshape/tracks.zip").status_code, 404)
        self.assertEqual(self.client.post(f"{self.url}/reshape/write").status_code, 204)
        job = self.work(Job.objects.get(session=self.take, kind=RESHAPE))
        self.assertEqual(job.state, Job.State.DONE, job.message)
        data = b"".join(self.client.get(f"{self.url}/reshape/tracks.zip").streaming_content)
        archive = zipfile.ZipFile(io.BytesIO(data))
        self.assertEqual(sorted(archive.namelist()), ["kick.wav", "map as played.mid", "map.mid", "wood.wav"])
        lengths = set()
        for name in ("kick.wav", "wood.wav"):
            with sf.SoundFile(io.BytesIO(archive.read(name))) as f:
                lengths.add(f.frames)
                self.assertEqual(f.subtype, "PCM_24")
        self.assertEqual(len(lengths), 1)
        written, _ = sf.read(io.BytesIO(archive.read("wood.wav")), dtype="float32")
        heard = self.samples(state["key"], 0, 40)
        np.testing.assert_allclose(written[: len(heard)], heard, atol=2**-22)
        tempos = [m.tempo for m in mido.MidiFile(file=io.BytesIO(archive.read("map.mid"))) if m.type == "set_tempo"]
        self.assertIn(600_000, tempos)

    def test_click_and_parts_are_written_on_the_new_clock(self):
        self.ask(do="conform", kind="tempo", bpm=100)
        self.client.post(f"{self.url}/parts/pattern", {"pattern": "Boardwalk", "from": "1", "to": "6", "fill": "4"})
        self.client.post(f"{self.url}/reshape/write", {"depth": "float", "companions": "1"})
        job = self.work(Job.objects.get(session=self.take, kind=RESHAPE))
        self.assertEqual(job.state, Job.State.DONE, job.message)
        page = self.client.get(f"{self.url}/panel/reshape").content.decode()
        self.assertIn("click.wav", page)
        self.assertIn("Measured on the files", page)
        self.assertIn("GB are free", page)
        part = self.fresh().parts.get()
        sounds = {}
        for name in ("wood.wav", "click.wav", f"part {part.name}.wav"):
            answer = self.client.get(f"{self.url}/reshape/tracks/{name}")
            sounds[name], _ = sf.read(io.BytesIO(b"".join(answer.streaming_content)), always_2d=True)
        self.assertEqual(len({len(x) for x in sounds.values()}), 1)
        # the click's first samples sound on the new beats, 0.6 s apart
        click = np.abs(sounds["click.wav"][:, 0])
        starts = np.flatnonzero((click > 1e-4) & (np.concatenate(([0], click[:-1])) == 0))
        starts = starts[np.diff(starts, prepend=-RATE) > RATE // 4]
        np.testing.assert_allclose(np.diff(starts)[4:20], 0.6 * RATE, atol=1)
        self.assertGreater(np.abs(sounds[f"part {part.name}.wav"]).max(), 0.01)
        self.assertEqual(self.client.get(f"{self.url}/reshape/tracks/nothing.wav").status_code, 404)

    def test_nothing_to_write_is_said(self):
        job = self.work(Job.objects.create(session=self.take, kind=RESHAPE))
        self.assertEqual(job.state, Job.State.FAILED)
        self.assertIn("Nothing is reshaped", job.message)

    def test_the_recording_is_never_altered(self):
        before = audio.read(self.wood.source, 0, 20 * RATE)
        self.tighten()
        self.ask(do="conform", kind="average")
        self.client.post(f"{self.url}/reshape/write")
        self.work(Job.objects.get(session=self.take, kind=RESHAPE))
        np.testing.assert_array_equal(audio.read(self.wood.source, 0, 20 * RATE), before)

    def test_a_bug_is_no_mistake_of_the_engineer_s(self):
        """What is raised by accident is not answered with its text, nor as if a track were gone."""
        _, state = self.tighten()
        for broken, ask in (
            ("studio.reshaping.result.Result.read", lambda: self.samples(state["key"])),
            ("studio.reshaping.views._state", self.tighten),
        ):
            with mock.patch(broken, side_effect=ValueError("of our own making")), self.assertLogs("studio", "ERROR"):
                self.assertRaises(ValueError, ask)
        self.assertEqual(self.client.get(f"{self.url}/blocks/0?tracks=99999").status_code, 404)
        self.assertEqual(self.client.get(f"{self.url}/blocks/0?tracks=x").status_code, 404)

    def test_what_is_wanted_follows_the_map(self):
        self.tighten()
        old = self.client.get(f"{self.url}/reshape/state").json()
        self.post(f"{self.url}/edit", kind="nudge", beat=12, by=0.012, step=self.fresh().step_id)
        new = self.client.get(f"{self.url}/reshape/state").json()
        self.assertNotEqual(json.dumps(old["tightenings"]), json.dumps(new["tightenings"]))
        self.assertNotEqual(old["key"], new["key"])

    def test_odd_requests_are_refused_and_break_nothing(self):
        rng = random.Random(5)
        odd = [None, -1, 5.5, 1e9, -1e9, 1e308, "", "x", [], [1], {}, True, 99_999]
        good = {
            "tracks": [[self.kick.pk], [self.wood.pk], [self.kick.pk, self.wood.pk]],
            "track": [self.kick.pk, self.wood.pk],
            "start": [0, 4.9, 19.9],
            "end": [9.0, 20.5, 30],
            "amount": [0, 60, 100],
            "kind": ["none", "average", "tempo", "freedom", "map"],
            "engine": ["cut", "tonal", "voice", "blend", ""],
            "key": [1, 2, 3],
            "at": [5.0, 8.2],
            "attack": [5.0, 9.0],
            "ms": [-40, 0, 200, None],
            "to": [5.02, 9.1, 20.0],
            "before": [4.9, 8.0],
            "after": [5.3, 9.4],
            "bar": [1, 3, 8],
            "gap": [0, 1],
            "how": ["", "jump", "stretch"],
        }
        needed = {
            "tighten": ["tracks", "start", "end"],
            "amount": ["key", "amount"],
            "attack": ["key", "at"],
            "fence": ["key", "at"],
            "move": ["track", "attack", "ms", "to"],
            "hush": ["track", "start", "end"],
            "fences": ["key", "before", "after"],
            "place": ["track", "bar"],
            "gap": ["gap", "how"],
            "drop": ["key"],
            "conform": ["kind"],
            "engine": ["track", "engine"],
            "group": ["tracks"],
        }
        for n in range(150):
            do = rng.choice(list(needed))
            request = {f: rng.choice(good[f] if rng.random() < 0.85 else odd) for f in needed[do]}
            status, answer = self.ask(do=do, **request)
            self.assertIn(status, (200, 422), (do, request))
            if status == 422:
                self.assertTrue(answer["error"], (do, request))
            if n % 15 == 14:
                key = self.client.get(f"{self.url}/reshape/state").json()["key"]
                for path in ("panel/reshape", "facts", "map", f"blocks/12?tracks={self.wood.pk}", "click", "marks"):
                    joined = f"{self.url}/{path}{'&' if '?' in path else '?'}clock={key}"
                    self.assertEqual(self.client.get(joined).status_code, 200, joined)
