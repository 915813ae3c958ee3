"""A session that starts from a programmed song, and a recording that is laid under it."""

import io

import mido
import numpy as np
import soundfile as sf
from django.core.files.uploadedfile import SimpleUploadedFile

from core.formats import smf
from core.formats.song import PartToWrite, write_song
from core.notes import ScoreNote
from core.tempomap import TempoMap
from studio.jobs.queue import start
from studio.library.models import Session
from studio.library.uploads import LISTEN, add_track
from studio.reshaping.result import result_of
from studio.streaming import BLOCK
from tests.studio.base import StudioCase

RATE = 44_100
MAP = TempoMap.from_beats(np.cumsum(np.concatenate([[0], 0.5 + 0.05 * np.sin(np.arange(40) / 6)])))


def song(parts=2):
    rows = [ScoreNote(bar, q, 0.5, 60 + q, 90) for bar in range(1, 9) for q in range(4)]
    written = smf.write(MAP, "Programmed")
    made = [PartToWrite(f"Part {k + 1}", 0, k == 1, rows) for k in range(parts)]
    out = io.BytesIO()
    write_song(written, MAP, made).save(file=out)
    return out.getvalue()


class FromSong(StudioCase):
    def start(self, data=None, name="Programmed.mid"):
        file = SimpleUploadedFile(name, song() if data is None else data)
        return self.client.post("/sessions/from-song", {"file": file})

    def test_the_map_and_the_parts_are_there(self):
        answer = self.start()
        self.assertEqual(answer.status_code, 200, answer.content)
        made = Session.objects.get(pk=answer.json()["id"])
        self.assertEqual(made.title, "Programmed")
        bars = np.arange(1, 9)
        gaps = np.diff(made.tempo_map.bar_seconds(bars))
        np.testing.assert_allclose(gaps, np.diff(MAP.bar_seconds(bars)), atol=1e-4)
        self.assertEqual([p.name for p in made.parts.order_by("pk")], ["Part 1", "Part 2"])
        self.assertGreater(made.seconds, 16)
        self.assertEqual(self.client.get(answer.json()["url"]).status_code, 200)
        grid = self.client.get(f"/sessions/{made.pk}/map").json()["grid"]
        self.assertGreater(len(grid["time"]), 30)

    def test_a_file_with_a_map_only(self):
        out = io.BytesIO()
        smf.write(MAP, "Map").file.save(file=out)
        made = Session.objects.get(pk=self.start(out.getvalue()).json()["id"])
        self.assertEqual(made.parts.count(), 0)

    def test_no_song_is_said(self):
        for answer in (self.start(b"MThd nothing"), self.client.post("/sessions/from-song")):
            self.assertEqual(answer.status_code, 422)
            self.assertIn("MIDI", answer.json()["error"])
        nothing = io.BytesIO()
        empty = mido.MidiFile()
        empty.add_track()
        empty.save(file=nothing)
        answer = self.start(nothing.getvalue(), "Empty.mid")
        self.assertContains(answer, "holds neither notes nor a tempo map", status_code=422)
        self.assertEqual(Session.objects.count(), 0)

    def test_a_recording_is_laid_under_it(self):
        made = Session.objects.get(pk=self.start().json()["id"])
        self.assertContains(self.client.get(f"/sessions/{made.pk}/panel/gather"), ">Add tracks</label>")
        track = add_track(made, self.wav("reference.wav", 3.25 + 0.5 * np.arange(20)), "reference.wav")

        job = self.work(start(made, LISTEN, track))
        self.assertEqual(job.message, "")
        url = f"/sessions/{made.pk}/reshape"
        answer = self.post(url, do="place", track=track.pk, bar=2)
        self.assertEqual(answer.status_code, 200, answer.content)
        made = Session.objects.select_related("step").get(pk=made.pk)
        self.assertEqual(made.step.name, "reference placed at bar 2")
        result = result_of(made)
        found = result.attacks(track).seconds
        self.assertAlmostEqual(found[0], float(made.tempo_map.bar_seconds(2)), delta=1e-3)
        # the samples are the recording's own, shifted
        shift = round(3.25 * RATE) - round(float(made.tempo_map.bar_seconds(2)) * RATE)
        blocks = b"".join(
            self.client.get(f"/sessions/{made.pk}/blocks/{n}?tracks={track.pk}&clock={result.key}").content
            for n in range(8)
        )
        now = np.frombuffer(blocks, np.float32)
        own, _ = sf.read(track.source, dtype="float32")
        at = RATE
        near = [np.abs(now[at : at + RATE] - own[at + shift + k : at + shift + k + RATE]).max() for k in range(-40, 41)]
        self.assertLess(min(near), 1e-6)
        self.assertEqual(len(now), 8 * BLOCK)
        # placed anew it is placed once; taken back it is where it was
        self.post(url, do="place", track=track.pk, bar=3)
        self.assertEqual(self.post(url, do="place", track=track.pk, bar=500).status_code, 422)
        text = self.client.get(f"/sessions/{made.pk}/panel/reshape").content.decode()
        self.assertEqual(text.count("s later"), 1)

    def test_the_file_that_comes_out_has_the_song_again(self):
        made = Session.objects.get(pk=self.start().json()["id"])
        answer = self.client.get(f"/sessions/{made.pk}/deliver/file/song.mid")
        file = mido.MidiFile(file=io.BytesIO(b"".join(answer.streaming_content)))
        notes = [m for t in file.tracks for m in t if m.type == "note_on" and m.velocity]
        self.assertEqual(len(notes), 64)
