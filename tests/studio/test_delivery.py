"""What is handed over: single files, bundles as one ZIP, files that carry the map, downloads that go on."""

import io
import json
import zipfile
from unittest import mock

import jams
import mido
import music21
import numpy as np
import soundfile as sf

from core.following import click as clicks
from core.formats.beat_tables import read_beats
from core.formats.carried import read_carried
from core.formats.carried.content import from_text
from core.formats.song import read_map
from studio.delivery import writing_bundles
from studio.delivery.bundles import BUNDLES, Wanted, archive_of, names, needed_bytes
from studio.delivery.click_files import click_file
from studio.delivery.documents import DOCUMENTS
from studio.delivery.mixing import common_level, mixed
from studio.desk.models import Mark
from studio.jobs.models import Job
from studio.library.models import Session
from tests.studio.base import PreparedCase, StudioCase

RATE = 44_100


class Delivery(PreparedCase):
    def prepare(self):
        self.take = self.session(self.wav(), self.wav("wood.wav", 1 + 0.5 * np.arange(36)), title="Lantern, slipway")
        self.work(Job.objects.create(session=self.take, kind="find"))
        self.take.refresh_from_db()
        lines = self.take.tempo_map.bar_seconds([1, 3, 5])
        for name, start, end in (("Verse", lines[0], lines[1]), ("Refrain", lines[1], lines[2])):
            Mark.objects.create(session=self.take, kind="section", name=name, start=start, end=end)
        self.client.post(f"/sessions/{self.take.pk}/parts/pattern", {"pattern": "Boardwalk"})
        self.take.refresh_from_db()  # adding a part is a step
        self.url = f"/sessions/{self.take.pk}/deliver"

    def got(self, path, **more):
        answer = self.client.get(f"{self.url}/{path}", **more)
        self.assertIn(answer.status_code, (200, 206), answer)
        return b"".join(answer.streaming_content)

    def bundle(self, name, **asked):
        answer = self.client.post(f"{self.url}/bundles/{name}", asked)
        self.assertEqual(answer.status_code, 200, answer.content)
        job = Job.objects.get(kind=f"bundle-{name}", state="waiting")
        self.work(job)
        job.refresh_from_db()
        self.assertEqual(job.state, "done", job.message)
        return zipfile.ZipFile(io.BytesIO(self.got(f"bundles/{name}.zip")))


class Documents(Delivery):
    def test_each_is_read_by_a_reader_of_its_own(self):
        beats = self.take.tempo_map.beats()
        texts = {key: self.got(f"file/{key}") for key in DOCUMENTS}
        markers = [m.text for m in mido.MidiFile(file=io.BytesIO(texts["map.mid"])).tracks[0] if m.type == "marker"]
        self.assertEqual([m for m in markers if m != "Lead-in"], ["Verse", "Refrain"])
        table = read_beats(texts["beats.csv"].decode(), "x").beats()
        np.testing.assert_allclose(table.seconds[:20], beats.seconds[:20], atol=1e-6)
        self.assertIn("\tRefrain\n", texts["labels.txt"].decode())
        path = self.folder / "take.jams"
        path.write_bytes(texts["map.jams"])
        found = jams.load(str(path), strict=True)
        self.assertEqual([o.value for o in found.search(namespace="segment_open")[0].data], ["Verse", "Refrain"])
        confidence = [o.confidence for o in found.search(namespace="beat")[0].data]
        self.assertTrue(all(0 <= c <= 1 for c in confidence))
        score = music21.converter.parse(texts["chart.musicxml"].decode(), format="musicxml")
        self.assertEqual([m.content for m in score.recurse().getElementsByClass("RehearsalMark")], ["Verse", "Refrain"])
        self.assertTrue(texts["chapters.vtt"].decode().startswith("WEBVTT\n\n1\n"))
        self.assertIn("Bar 2, 120.0", texts["bars.vtt"].decode())
        self.assertEqual(from_text(texts["map.json"].decode()).map, self.take.tempo_map)

    def test_a_midi_file_that_begins_at_a_count_in(self):
        data = self.got("file/map.mid?count_in=2")
        found = mido.MidiFile(file=io.BytesIO(data))
        now = 0.0
        for message in found:
            now += message.time
            if message.type == "marker" and message.text == "Verse":
                break
        self.assertAlmostEqual(now, 4.0, places=3)  # two bars at 120
        self.assertEqual(self.client.get(f"{self.url}/file/map.mid?count_in=33").status_code, 422)

    def test_a_file_that_there_is_not(self):
        self.assertEqual(self.client.get(f"{self.url}/file/map.wma").status_code, 404)
        self.assertEqual(self.client.get(f"{self.url}/bundles/nobody.zip").status_code, 404)
        self.assertEqual(self.client.post(f"{self.url}/bundles/nobody").status_code, 404)

    def test_a_count_in_leads_to_bar_one_and_makes_the_file_longer_where_it_must(self):
        plain, _ = sf.read(io.BytesIO(self.got("click.wav")))
        led, rate = sf.read(io.BytesIO(self.got("click.wav?count_in=1")))
        first = round(float(self.take.tempo_map.bar_seconds(1)) * rate)
        more = len(led) - len(plain)
        _, length = clicks.count_in(self.take.tempo_map, rate, first / rate, 1)
        self.assertEqual(more, max(0, length - first))
        np.testing.assert_array_equal(led[more + first :], plain[first:])
        here = np.flatnonzero(np.abs(led[: more + first]) > 0.05)
        starts = here[np.diff(here, prepend=-RATE) > 2000]
        np.testing.assert_allclose(np.diff(starts), rate / 2, atol=3)
        self.assertEqual(len(starts), 4)
        self.assertEqual(self.client.get(f"{self.url}/click.wav?count_in=33").status_code, 422)

    def test_clicks_at_another_rate_are_rounded_only_once(self):
        tempo_map, rate = self.take.tempo_map, 96_000
        made, _ = sf.read(io.BytesIO(click_file(self.take, rate=rate, depth="float")))
        style = self.take.click_style
        wanted = clicks.clicks(tempo_map, rate, self.take.seconds, style)
        np.testing.assert_array_equal(wanted.samples, np.round(tempo_map.beats().seconds * rate)[: len(wanted.samples)])
        frames = round(self.take.seconds * rate)
        np.testing.assert_allclose(made, clicks.render(wanted, rate, frames, style.sound), atol=1e-7)


class Bundles(Delivery):
    def test_for_another_program_all_tracks_have_one_length_and_the_map_inside(self):
        archive = self.bundle("program", rate="48000", depth="16", count_in="2")
        inside = archive.namelist()
        self.assertEqual(sorted(inside), sorted(names(self.take, BUNDLES["program"])))
        stems = [n for n in inside if n.startswith("tracks/")]
        self.assertEqual(len(stems), 2)
        for name in stems:
            data = archive.read(name)
            info = sf.info(io.BytesIO(data))
            self.assertEqual((info.samplerate, info.subtype), (48_000, "PCM_16"))
            self.assertEqual(info.frames, round(self.take.seconds * 48_000))
            path = self.folder / "stem.wav"
            path.write_bytes(data)
            self.assertEqual(read_carried(path).map, self.take.tempo_map)
            self.assertEqual([s.name for s in read_carried(path).sections], ["Verse", "Refrain"])
        part = next(n for n in inside if n.startswith("parts/"))
        self.assertEqual(sf.info(io.BytesIO(archive.read(part))).frames, round(self.take.seconds * 48_000))

    def test_a_stem_at_the_session_s_own_rate_is_the_recording_to_the_bit(self):
        archive = self.bundle("program")
        track = self.take.tracks.first()
        name = next(n for n in archive.namelist() if n.startswith("tracks/"))
        written, _ = sf.read(io.BytesIO(archive.read(name)))
        source, _ = sf.read(track.source)
        np.testing.assert_array_equal(written[: len(source)], source)
        self.assertFalse(written[len(source) :].any())

    def test_for_the_archive_recordings_come_as_they_were(self):
        archive = self.bundle("archive")
        self.assertEqual(sorted(archive.namelist()), sorted(names(self.take, BUNDLES["archive"])))
        track = self.take.tracks.first()
        kept, _ = sf.read(io.BytesIO(archive.read(next(n for n in archive.namelist() if n.startswith("recordings/")))))
        np.testing.assert_array_equal(kept, sf.read(track.source)[0])
        self.assertIsNone(read_carried(track.source))
        text = next(n for n in archive.namelist() if n.endswith("map.json"))
        self.assertEqual(json.loads(archive.read(text))["title"], "Lantern, slipway")

    def test_for_a_player_the_mix_does_not_clip(self):
        self.take.tracks.update(gain=20)
        archive = self.bundle("player", depth="float", rate="48000")
        mix = next(n for n in archive.namelist() if n.endswith("mix.wav"))
        sound, rate = sf.read(io.BytesIO(archive.read(mix)))
        self.assertEqual((rate, sound.shape[1]), (48_000, 2))
        self.assertLess(np.abs(sound).max(), 1.05)  # resampling may overshoot a little; floating point keeps it
        self.assertGreater(np.abs(sound).max(), 0.8)

    def test_sections_are_cut_on_their_bar_lines_in_one_go(self):
        archive = self.bundle("loops")
        self.assertEqual(archive.namelist(), ["Refrain - bars 3-4.wav", "Verse - bars 1-2.wav"])
        lines = [round(float(t) * RATE) for t in self.take.tempo_map.bar_seconds([1, 3])]
        self.assertEqual(sf.info(io.BytesIO(archive.read("Verse - bars 1-2.wav"))).frames, lines[1] - lines[0])

    def test_without_sections_there_are_no_loops_and_the_page_says_why(self):
        self.take.marks.all().delete()
        answer = self.client.post(f"{self.url}/bundles/loops")
        self.assertEqual(answer.status_code, 422)
        self.assertContains(answer, "There are no sections yet", status_code=422)

    def test_another_edit_makes_a_bundle_old(self):
        self.bundle("player")
        self.assertContains(self.client.get(f"{self.url}/bundles"), "Get the ZIP")
        answer = self.post(f"/sessions/{self.take.pk}/edit", kind="shift", by=0.01, step=self.take.step_id)
        self.assertEqual(answer.status_code, 200, answer.content)
        page = self.client.get(f"{self.url}/bundles")
        self.assertNotContains(page, "Get the ZIP")
        self.assertEqual(self.client.get(f"{self.url}/bundles/player.zip").status_code, 404)

    def test_wrong_wishes_are_refused_and_the_last_ones_kept(self):
        for wrong in ({"rate": "8"}, {"depth": "4"}, {"count_in": "many"}):
            self.assertEqual(self.client.post(f"{self.url}/bundles/program", wrong).status_code, 422, wrong)
        self.assertFalse(Job.objects.filter(kind="bundle-program").exists())

    def test_a_full_disk_is_told_before_anything_is_written(self):
        self.client.post(f"{self.url}/bundles/program")
        job = Job.objects.get(kind="bundle-program")
        usage = mock.Mock(free=writing_bundles._RESERVE + 1000)
        with mock.patch.object(writing_bundles.shutil, "disk_usage", return_value=usage):
            self.work(job)
        job.refresh_from_db()
        self.assertEqual(job.state, "failed")
        self.assertIn("the disk has 0 MB left", job.message)

    def test_the_size_that_is_told_is_about_right(self):
        for name in ("program", "archive", "loops"):
            self.bundle(name)
            size = archive_of(self.take, BUNDLES[name], Wanted()).stat().st_size
            told = needed_bytes(self.take, BUNDLES[name], Wanted())
            self.assertTrue(0.6 * told < size <= told, (name, told, size))


class Order(Delivery):
    def prepare(self):
        super().prepare()
        self.client.post(f"/sessions/{self.take.pk}/order/add", {"all": "1"})
        self.verse, self.refrain = self.take.turns.order_by("place")
        self.take.turns.filter(pk=self.verse.pk).update(times=2)
        self.take.turns.filter(pk=self.refrain.pk).update(pace=0.8)

    def test_it_is_one_piece_of_the_right_length_with_a_map_that_fits_it(self):
        archive = self.bundle("order", depth="float")
        wave = next(n for n in archive.namelist() if n.endswith(".wav"))
        sound, rate = sf.read(io.BytesIO(archive.read(wave)))
        lines = self.take.tempo_map.bar_seconds([1, 3, 5])
        length = 2 * (lines[1] - lines[0]) + (lines[2] - lines[1]) / 0.8
        self.assertAlmostEqual(len(sound) / rate, length, delta=2 / rate)
        path = self.folder / "order.mid"
        path.write_bytes(archive.read(next(n for n in archive.namelist() if n.endswith(".mid"))))
        found = read_map(path)
        verse = lines[1] - lines[0]
        expected = [0, verse / 2, verse, 1.5 * verse, 2 * verse, 2 * verse + (lines[2] - lines[1]) / 1.6]
        np.testing.assert_allclose(found.bar_seconds(range(1, 7)), expected, atol=1e-4)
        # in both verses, and in the slower refrain, strokes lie on the beats
        level = np.abs(sound).max(axis=1)
        for beat in found.beats().seconds[1:22]:
            at = round(float(beat) * rate)
            self.assertGreater(level[at : at + 400].max(), 5 * level[at - 900 : at - 300].max() + 1e-4)

    def test_passages_at_their_own_pace_are_the_recording_to_the_bit(self):
        archive = self.bundle("order", depth="float")
        sound, rate = sf.read(io.BytesIO(archive.read(next(n for n in archive.namelist() if n.endswith(".wav")))))
        self.take = Session.objects.get(pk=self.take.pk)
        start, end = (round(float(t) * rate) for t in self.take.tempo_map.bar_seconds([1, 3]))
        whole = common_level(self.take) * mixed(self.take, start, end - start)
        inner = len(whole) - 500  # where it blends into the next one
        np.testing.assert_array_equal(sound[:inner].astype(np.float32), whole[:inner])

    def test_without_an_order_the_page_says_what_is_missing(self):
        self.take.turns.all().delete()
        answer = self.client.post(f"{self.url}/bundles/order")
        self.assertContains(answer, "Nothing is in the running order yet", status_code=422)


class Ranges(Delivery):
    def test_a_download_goes_on_where_it_stopped(self):
        self.bundle("loops")
        whole = self.got("bundles/loops.zip")
        answer = self.client.get(f"{self.url}/bundles/loops.zip")
        tag = answer["ETag"]
        self.assertEqual(answer["Accept-Ranges"], "bytes")
        self.assertEqual(b"".join(answer.streaming_content), whole)
        rest = self.client.get(f"{self.url}/bundles/loops.zip", headers={"Range": "bytes=1000-", "If-Range": tag})
        self.assertEqual(rest.status_code, 206)
        self.assertEqual(rest["Content-Range"], f"bytes 1000-{len(whole) - 1}/{len(whole)}")
        self.assertEqual(whole[:1000] + b"".join(rest.streaming_content), whole)
        last = self.client.get(f"{self.url}/bundles/loops.zip", headers={"Range": "bytes=-5"})
        self.assertEqual(b"".join(last.streaming_content), whole[-5:])
        beyond = self.client.get(f"{self.url}/bundles/loops.zip", headers={"Range": f"bytes={len(whole)}-"})
        self.assertEqual((beyond.status_code, beyond["Content-Range"]), (416, f"bytes */{len(whole)}"))
        other = self.client.get(f"{self.url}/bundles/loops.zip", headers={"Range": "bytes=9-", "If-Range": '"old"'})
        self.assertEqual((other.status_code, b"".join(other.streaming_content)), (200, whole))


class Pan(StudioCase):
    def test_a_panned_track_is_on_its_side_of_the_mix_and_undo_brings_it_back(self):
        take = self.mapped()
        track = take.tracks.get()
        middle = mixed(take, 44_100, 44_100)
        self.assertEqual(self.post(f"/tracks/{track.pk}", pan=-0.75).status_code, 200)
        take = Session.objects.get(pk=take.pk)
        panned = mixed(take, 44_100, 44_100)
        np.testing.assert_allclose(panned[:, 0], middle[:, 0])
        np.testing.assert_allclose(panned[:, 1], 0.25 * middle[:, 1], atol=1e-7)
        self.post(f"/sessions/{take.pk}/undo", by=-1)
        self.assertEqual(take.tracks.get().pan, 0)
        self.assertEqual(self.post(f"/tracks/{track.pk}", pan=1.5).status_code, 422)
