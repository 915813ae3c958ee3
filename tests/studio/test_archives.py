"""A session as one file: all of it comes back, in the same database or another, from an older version too."""

import hashlib
import io
import json
import zipfile
from pathlib import Path
from unittest import mock

import jsonschema
import mido
import numpy as np
import orjson
import soundfile as sf
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import CommandError, call_command

from core.formats.carried.content import from_text
from core.reshaping.plan import Reshaping, Tightening
from core.reshaping.tighten import Tighten
from studio.archives import older, reading, rows, writing
from studio.archives.jobs import ARCHIVE, OPEN, place_of
from studio.archives.reading import NoArchive
from studio.desk import pieces
from studio.desk.models import Mark, Piece
from studio.histories import PIECES
from studio.jobs.models import Job
from studio.library.models import Session, Track
from studio.reshaping.wanted import save_wanted, wanted_of
from studio.running_order.models import Turn
from tests.shared import digest_of_upload
from tests.studio.base import PreparedCase

SCHEMA = Path(__file__).parents[2] / "docs" / "session.schema.json"


def picture(session):
    """All of a session with the places of its rows in place of their keys."""
    found = rows.rows_of(session)
    place = {(label, r["id"]): k for label, several in found.items() for k, r in enumerate(several)}
    by_name = {p.name: p for p in PIECES}
    out = {}
    for model in rows.models_of_session():
        label = model._meta.label_lower
        if label == "desk.piece":
            continue
        keys = {f.attname: f.related_model._meta.label_lower for f in rows._keys(model)}
        out[label] = []
        for row in found[label]:
            row = {
                k: place.get((keys[k], v)) if k in keys and v is not None else v for k, v in row.items() if k != "id"
            }
            for name in ("analysed", "features_version", "sound", "touched", "summarised", "map_summary", "bpm"):
                row.pop(name, None)
            if label == "desk.mapstep":
                content = orjson.loads(row.pop("content"))
                row["map"] = content["map"]
                for name, digest in content["state"].items():
                    data = orjson.loads(pieces.fetch(session.pk, [digest])[digest])
                    row[name] = by_name[name].renumber(data, lambda a, b: place.get((a, b), -1)) if data else data
            if label == "reshaping.reshape":
                row["wanted"] = by_name["reshaping"].renumber(row["wanted"], lambda a, b: place.get((a, b), -1))
            out[label].append(row)
    return json.loads(json.dumps(out, sort_keys=True))


class Archives(PreparedCase):
    def prepare(self):
        self.take = self.session(self.wav(), self.wav("wood.wav", 1 + 0.5 * np.arange(36)), title="Lantern, ñ")
        self.work(Job.objects.create(session=self.take, kind="find"))
        self.url = f"/sessions/{self.take.pk}"
        self.kick, self.wood = self.take.tracks.order_by("pk")
        self.live()
        self.take = Session.objects.get(pk=self.take.pk)

    def step(self):
        return Session.objects.get(pk=self.take.pk).step_id

    def live(self):
        """What an engineer does in an afternoon: edits, an undone branch, marks, a removed section in the order, parts
        with a loop, chords, tightened playing, a track that was taken out, a version."""
        for name, stretch in (("Verse", [1.0, 5.0]), ("Bridge", [5.0, 9.0])):
            answer = self.post(f"{self.url}/mark", kind="section", name=name, stretch=stretch)
        self.client.post(f"{self.url}/order/add", {"all": "1"})
        bridge = next(m for m in answer.json()["marks"] if m["name"] == "Bridge")
        self.post(f"{self.url}/mark", remove=bridge["id"])
        self.post(f"{self.url}/edit", kind="nudge", beat=6, by=0.01, step=self.step())
        self.post(f"{self.url}/undo", by=-1, step=self.step())
        self.post(f"{self.url}/edit", kind="pin", beat=8, on=True, step=self.step())
        self.client.post(f"{self.url}/parts/pattern", {"pattern": "Boardwalk"})
        sound = io.BytesIO()
        sf.write(sound, np.random.default_rng(1).uniform(-0.2, 0.2, 44_100), 44_100, format="WAV")
        answer = self.client.post(
            f"{self.url}/parts/loop", {"file": SimpleUploadedFile("loop.wav", sound.getvalue()), "beats": "2"}
        )
        self.assertEqual(answer.status_code, 200, answer.content)
        self.work(Job.objects.create(session=self.take, kind="chords"))
        session = Session.objects.get(pk=self.take.pk)
        wanted = Reshaping(
            tightenings=(Tightening(1, (self.kick.pk,), Tighten(1.0, 9.0, "track", amount=0.6), self.wood.pk),),
            groups=((self.kick.pk, self.wood.pk),),
            engines={self.wood.pk: "cut"},
        )
        save_wanted(session, wanted, "Tightened")
        self.post(f"/tracks/{self.kick.pk}", gain=-6)
        self.post(f"{self.url}/version", name="for the singer")

    def archived(self):
        path = self.folder / "session.zip"
        writing.write(self.take, path)
        return path

    def opened(self, path):
        made = Session.objects.create(title="empty")
        reading.read(path, made)
        made.refresh_from_db()
        return made

    def again(self, change):
        """The archive with some of its files changed, digests and all: ``change`` gets them by name."""
        path = self.archived()
        with zipfile.ZipFile(path) as z:
            files = {n: z.read(n) for n in z.namelist()}
        manifest = json.loads(files.pop("manifest.json"))
        change(files, manifest)
        manifest["sha256"] = {n: hashlib.sha256(d).hexdigest() for n, d in files.items()}
        with zipfile.ZipFile(path, "w") as z:
            for name, data in files.items():
                z.writestr(name, data)
            z.writestr("manifest.json", json.dumps(manifest))
        return path


class RoundTrip(Archives):
    def test_every_step_statement_part_and_mark_is_equal(self):
        before = picture(self.take)
        self.assertGreater(len(before["desk.mapstep"]), 8)
        for label in ("desk.mark", "running.turn", "parts.partstep", "harmony.chordstep", "reshaping.reshape"):
            self.assertTrue(before[label], label)
        made = self.opened(self.archived())
        self.assertNotEqual(made.pk, self.take.pk)
        after = picture(made)
        for label in before:
            self.assertEqual(after[label], before[label], label)
        self.assertEqual(picture(self.take), before)

    def test_recordings_and_loops_are_the_same_bytes_under_new_keys(self):
        made = self.opened(self.archived())
        for old, new in zip(self.take.tracks.order_by("pk"), made.tracks.order_by("pk"), strict=True):
            self.assertNotEqual(old.pk, new.pk)
            self.assertEqual(new.source.read_bytes(), old.source.read_bytes())
        (old,), (new,) = ([p for p in s.parts.all() if p.is_loop] for s in (self.take, made))
        self.assertEqual(new.loop.read_bytes(), old.loop.read_bytes())
        wanted = wanted_of(made)
        keys = list(made.tracks.order_by("pk").values_list("pk", flat=True))
        self.assertEqual((wanted.tightenings[0].tracks, wanted.tightenings[0].other), ((keys[0],), keys[1]))
        self.assertEqual((wanted.groups, dict(wanted.engines)), (((keys[0], keys[1]),), {keys[1]: "cut"}))

    def test_undo_goes_on_in_the_opened_session_and_touches_no_other(self):
        made = self.opened(self.archived())
        other = picture(self.take)
        self.post(f"/sessions/{made.pk}/undo", by=-1, step=made.step_id)
        for part in made.parts.select_related("step"):
            self.assertEqual(part.now.part_id, part.pk)
        self.post(f"/sessions/{made.pk}/undo", by=1, step=Session.objects.get(pk=made.pk).step_id)
        url = f"/sessions/{made.pk}"
        steps = 0
        while True:
            answer = self.post(f"{url}/undo", by=-1, step=Session.objects.get(pk=made.pk).step_id)
            self.assertEqual(answer.status_code, 200, answer.content)
            now = Session.objects.select_related("step").get(pk=made.pk)
            steps += 1
            if now.step.before_id is None:
                break
        self.assertGreater(steps, 6)
        self.assertFalse(made.marks.exists())
        self.post(f"{url}/undo", by=steps, step=now.step_id)
        self.assertEqual([m.name for m in made.marks.filter(kind="section")], ["Verse"])
        self.assertEqual(picture(self.take), other)
        # a removed section came and went: its key belongs to nobody else
        self.assertEqual(Mark.objects.filter(session=self.take).count() * 2, Mark.objects.count())
        self.assertEqual(Turn.objects.filter(session=self.take).count() * 2, Turn.objects.count())

    def test_it_is_of_use_without_us_and_keeps_to_its_schema(self):
        path = self.archived()
        with zipfile.ZipFile(path) as z:
            manifest = json.loads(z.read("manifest.json"))
            schema = json.loads(SCHEMA.read_text(encoding="utf-8"))
            jsonschema.Draft202012Validator.check_schema(schema)
            jsonschema.validate(manifest, schema)
            self.assertEqual(set(manifest["sha256"]) | {"manifest.json"}, set(z.namelist()))
            self.assertEqual(mido.MidiFile(file=io.BytesIO(z.read("map/map.mid"))).type, 1)
            self.assertEqual(from_text(z.read("map/map.json").decode()).map, self.take.tempo_map)
            names = [r["file"] for r in manifest["recordings"]]
            self.assertEqual(names, ["recordings/kick.wav", "recordings/wood.wav"])
            sf.read(io.BytesIO(z.read(names[0])))
        self.assertEqual(reading.verify(path).title, "Lantern, ñ")

    def test_pieces_that_nobody_names_any_more_are_not_kept(self):
        made = self.opened(self.archived())
        used = set()
        for step in made.steps.all():
            content = orjson.loads(step.content)
            used |= {*pieces.chunks_of(content["map"]), *content["state"].values()}
        self.assertEqual(set(Piece.objects.filter(session=made).values_list("digest", flat=True)), used)


class Versions(Archives):
    def test_an_archive_of_an_older_version_is_migrated(self):
        """As it was before sessions had a length of their own (library 0008) and were put into the bin by date."""

        def change(files, manifest):
            manifest["migrations"]["library"] = "0007_session_gone"
            del manifest["migrations"]["recording"]  # there was no such app
            data = json.loads(files["rows.json"])
            data.pop("recording.recording", None)
            for row in data["library.track"]:
                del row["pan"]
            for row in data["library.session"]:
                for name in ("song_seconds", "gone_since", "tags", "map_summary", "bpm", "summarised"):
                    del row[name]
            files["rows.json"] = json.dumps(data).encode()

        library = [n for a, n in older.MigrationLoader(None).disk_migrations if a == "library"]
        then = next(n for n in library if n.startswith("0007"))
        before = picture(self.take)

        def with_name(files, manifest):
            change(files, manifest)
            manifest["migrations"]["library"] = then

        # Django's guard against other databases in tests does not know the one that is made here
        with mock.patch.object(type(self), "databases", {"default", older._ALIAS}):
            made = self.opened(self.again(with_name))
        self.assertEqual(picture(made), before)

    def test_a_newer_one_says_so(self):
        for change in (
            lambda f, m: m["migrations"].update(desk="9999_from_the_future"),
            lambda f, m: m.update(version=2),
        ):
            with self.assertRaisesRegex(NoArchive, "newer"):
                self.opened(self.again(change))


class InThePage(Archives):
    def test_many_are_made_at_once_and_fetched_as_one_file(self):
        other = self.session(self.wav("other.wav"), title="Lantern, ñ")
        self.session(self.wav("third.wav"), title="Left out")
        asked = {"q": "lantern"}
        page = self.client.get("/archives", asked)
        self.assertContains(page, "0 of 2 archives are ready")
        self.assertNotContains(page, "Left out")
        self.client.post("/archives?q=lantern")
        self.client.post("/archives?q=lantern")
        made = Job.objects.filter(kind=ARCHIVE)
        self.assertEqual(made.count(), 2)
        for job in made:
            self.work(job)
        self.assertContains(self.client.get("/archives", asked), "2 of 2 archives are ready")
        answer = self.client.get("/archives.zip", asked)
        with zipfile.ZipFile(io.BytesIO(b"".join(answer.streaming_content))) as whole:
            self.assertIsNone(whole.testzip())
            names = whole.namelist()
            self.assertEqual(len(set(names)), 2)
            inside = [zipfile.ZipFile(io.BytesIO(whole.read(n))).read("manifest.json") for n in names]
        self.assertEqual({r["track"] for m in inside for r in json.loads(m)["recordings"]},
                         {t.pk for s in (self.take, other) for t in s.tracks.all()})  # fmt: skip

    def test_it_is_made_by_a_job_and_fetched(self):
        self.assertContains(self.client.get(f"{self.url}/archive"), "Archive the session")
        self.client.post(f"{self.url}/archive/make")
        self.assertEqual(self.work(Job.objects.get(kind=ARCHIVE)).state, "done")
        self.assertContains(self.client.get(f"{self.url}/archive"), "Get the ZIP")
        answer = self.client.get(f"{self.url}/archive.zip")
        self.assertIn("Lantern%20%C3%B1%2C%20session.zip", answer["Content-Disposition"].replace("+", "%20"))
        self.assertEqual(b"".join(answer.streaming_content), place_of(self.take).read_bytes())
        self.post(f"{self.url}/edit", kind="nudge", beat=6, by=0.01, step=self.step())
        self.assertContains(self.client.get(f"{self.url}/archive"), "Archive the session")

    def upload(self, session, path):
        data = path.read_bytes()
        going = self.post(f"/sessions/{session.pk}/uploads", name=path.name, size=len(data)).json()["id"]
        size = 4 << 20
        for at in range(0, len(data), size):
            piece = data[at : at + size]
            answer = self.client.put(
                f"/uploads/{going}?offset={at}",
                piece,
                content_type="application/octet-stream",
                headers={"X-Digest": hashlib.sha256(piece).hexdigest()},
            )
            self.assertEqual(answer.status_code, 200, answer.content)
        return self.post(f"/uploads/{going}/finish", digest=digest_of_upload(data))

    def test_dropped_on_the_page_of_all_sessions_it_opens_as_it_was(self):
        before = picture(self.take)
        path = self.archived()
        made = Session.objects.create(title="empty")
        answer = self.upload(made, path)
        self.assertEqual(answer.json(), {"opens": True, "name": "session.zip"})
        # what the page does after any upload: there is nothing to find beats in yet
        self.client.post(f"/sessions/{made.pk}/find?first=1")
        self.assertEqual([j.kind for j in Job.objects.filter(session=made)], [OPEN])
        self.assertEqual(self.work(Job.objects.get(kind=OPEN)).message, "")
        made = Session.objects.get(pk=made.pk)
        self.assertEqual(picture(made), before)
        for job in Job.objects.filter(session=made, kind="listen"):
            self.work(job)
        self.assertTrue(all(t.analysed for t in made.tracks.all()))
        self.assertEqual([p.name for p in made.folder.glob("*.zip")], [])

    def test_into_a_session_that_has_tracks_it_is_not_opened(self):
        answer = self.upload(self.take, self.archived())
        self.assertEqual(answer.status_code, 422)
        self.assertIn("page of all sessions", answer.json()["error"])
        self.assertEqual(Track.objects.filter(session=self.take).count(), 2)


class Commands(Archives):
    def test_all_at_once_verified_and_opened_after_everything_was_deleted(self):
        second = self.session(self.wav("other.wav", 1 + 0.6 * np.arange(20)), title="Second")
        before = picture(self.take), picture(second)
        out = io.StringIO()
        to = self.folder / "out"
        call_command("archive", all=True, to=to, stdout=out)
        files = sorted(to.glob("*.zip"))
        self.assertEqual([f.name for f in files], ["Lantern ñ, session.zip", "Second, session.zip"])
        call_command("archive", *map(str, files), verify=True, stdout=out)
        self.assertIn("whole, 2 recordings, “Lantern, ñ”", out.getvalue())
        for session in Session.everything.all():
            session.erase()
        self.assertFalse(Piece.objects.exists())
        call_command("open", *files, stdout=out)
        opened = Session.objects.order_by("pk")
        self.assertEqual(tuple(picture(s) for s in opened), before)
        self.assertEqual(Job.objects.filter(kind="listen").count(), 3)

    def test_what_cannot_be_done_is_told(self):
        with self.assertRaisesMessage(CommandError, "no session “Nobody”"):
            call_command("archive", "Nobody")
        with self.assertRaisesMessage(CommandError, "say --all"):
            call_command("archive")
        path = self.folder / "x.zip"
        path.write_bytes(b"nothing")
        for command, options in (("archive", {"verify": True}), ("open", {})):
            with self.assertRaisesMessage(CommandError, "no archive"):
                call_command(command, str(path), **options)
        self.assertEqual(Session.everything.count(), 1)
