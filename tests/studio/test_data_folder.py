"""The data folder: locked, checked, copied, archived, put back, examined; old things cleared away."""

import os
import sqlite3
import zipfile
from datetime import UTC, datetime, timedelta
from io import StringIO
from pathlib import Path
from unittest import mock

import numpy as np
from django.core.management import CommandError, call_command
from django.test import override_settings
from django.utils import timezone

from studio.jobs.models import Job
from studio.library.models import Session, Track, Upload
from studio.library.uploads import LISTEN
from studio.server import archive, data_folder
from studio.server.data_folder import Unusable
from studio.server.examination import examine
from studio.server.housekeeping import HALF_SENT, IN_BIN, MADE, clear_away
from tests.studio.base import StudioCase


class AtStart(StudioCase):
    def test_a_second_server_is_kept_out_with_a_sentence(self):
        lock = data_folder.locked(self.folder)
        with self.assertRaisesMessage(Unusable, "Another Diachron is using"):
            data_folder.locked(self.folder)
        lock.release()
        data_folder.locked(self.folder).release()

    def test_a_damaged_database_is_told_and_the_newest_copy_named(self):
        path = self.folder / "diachron.sqlite3"
        path.write_bytes(b"SQLite format 3\x00" + b"\x00" * 84 + b"nonsense" * 400)
        copy = self.folder / "backups" / "daily-20260101.sqlite3"
        copy.parent.mkdir()
        copy.write_bytes(b"")
        with self.assertRaisesMessage(Unusable, str(copy)):
            data_folder.check_database(path)

    def test_data_of_a_newer_program_are_refused(self):
        path = self.folder / "diachron.sqlite3"
        sqlite3.connect(path).execute("CREATE TABLE t (x)")
        applied = {("library", "9999_of_the_future"): None}
        with (
            mock.patch("django.db.migrations.loader.MigrationRecorder.applied_migrations", return_value=applied),
            mock.patch("django.db.migrations.loader.MigrationLoader.check_consistent_history"),
            self.assertRaisesMessage(Unusable, "newer version"),
        ):
            data_folder.check_database(path)

    def test_before_an_update_the_database_is_copied_while_others_write(self):
        path = self.folder / "diachron.sqlite3"
        database = sqlite3.connect(path, isolation_level=None)
        database.executescript("PRAGMA journal_mode=WAL; CREATE TABLE t (x); INSERT INTO t VALUES (1)")
        database.execute("BEGIN IMMEDIATE")
        database.execute("INSERT INTO t VALUES (2)")
        with mock.patch.object(data_folder, "is_behind", return_value=True):
            copy = data_folder.copy_before_update(path)
        self.assertEqual(sqlite3.connect(copy).execute("SELECT COUNT(*) FROM t").fetchone(), (1,))
        with mock.patch.object(data_folder, "is_behind", return_value=False):
            self.assertIsNone(data_folder.copy_before_update(path))

    def test_a_copy_a_day_and_seven_of_them(self):
        path = self.folder / "diachron.sqlite3"
        sqlite3.connect(path).execute("CREATE TABLE t (x)")
        for day in range(10):
            later = datetime(2026, 3, 1 + day, 3, 0, tzinfo=UTC)
            with mock.patch.object(data_folder.timezone, "now", return_value=later):
                self.assertIsNotNone(data_folder.copy_daily(path))
                self.assertIsNone(data_folder.copy_daily(path))
        names = [p.stem for p in data_folder.backups(self.folder)]
        self.assertEqual(names, [f"daily-202603{day:02}" for day in range(4, 11)])


class Archive(StudioCase):
    def test_there_and_back_and_everything_is_as_it_was(self):
        made = self.mapped()
        data = self.folder
        with mock.patch.object(archive, "copy_database", side_effect=lambda _, to: self.stand_in(to)):
            count = archive.write(data, self.folder / "out" / "all.zip")
        self.assertEqual(count, 1)
        other = self.folder / "other"
        self.assertEqual(archive.read(self.folder / "out" / "all.zip", other), 1)
        source = made.tracks.get().source
        self.assertEqual((other / source.relative_to(data)).read_bytes(), source.read_bytes())
        with self.assertRaisesMessage(Unusable, "has a database already"):
            archive.read(self.folder / "out" / "all.zip", other)

    def stand_in(self, to: Path):
        sqlite3.connect(to).execute("CREATE TABLE t (x)")
        return to

    def test_a_damaged_archive_leaves_the_folder_as_it_was(self):
        self.mapped()
        path = self.folder / "all.zip"
        with mock.patch.object(archive, "copy_database", side_effect=lambda _, to: self.stand_in(to)):
            archive.write(self.folder, path)
        good = path.read_bytes()
        for damaged in (good[: len(good) // 2], b"", good.replace(b"RIFF", b"RIFX", 1)):
            path.write_bytes(damaged)
            other = self.folder / "other"
            with self.assertRaises(Unusable):
                archive.read(path, other)
            self.assertFalse((other / data_folder.DATABASE).exists())
            self.assertFalse((other / "sessions").exists())

    def test_names_that_lead_out_of_the_folder_are_refused(self):
        path = self.folder / "evil.zip"
        with zipfile.ZipFile(path, "w") as z:
            z.writestr("../evil", "x")
            z.writestr(archive.CONTENTS, '{"version": 1, "sha256": {"../evil": "0"}}')
        with self.assertRaisesMessage(Unusable, "no archive"):
            archive.read(path, self.folder / "other")


class Doctor(StudioCase):
    def found(self):
        return [f.words for f in examine(self.folder / "sessions")]

    def test_all_is_well(self):
        self.mapped()
        self.assertEqual(self.found(), [])

    def test_each_harm_is_told_and_what_can_be_is_mended(self):
        made = self.mapped()
        track = made.tracks.get()
        (track.folder / "peaks-256.npy").unlink()
        (made.folder / "upload-77.part").write_bytes(b"x")
        (track.folder / "left.partial").write_bytes(b"x")
        (self.folder / "sessions" / "4711").mkdir()
        found = list(examine(self.folder / "sessions"))
        self.assertEqual([f.can_mend for f in found], [True, True, True, False])
        for f in found:
            if f.can_mend:
                f.mend()
        self.work(Job.objects.get(kind=LISTEN))
        self.assertEqual(len(self.found()), 1)

    def test_a_recording_that_was_changed_or_is_gone_is_told(self):
        track = self.mapped().tracks.get()
        data = track.source.read_bytes()
        track.source.write_bytes(data[: len(data) // 2])
        self.assertIn("not as it came", self.found()[0])
        track.source.unlink()
        self.assertIn("missing", self.found()[0])

    def test_the_command_says_so_and_ends_with_an_error(self):
        track = self.mapped().tracks.get()
        track.source.unlink()
        out = StringIO()
        with override_settings(DATA=self.folder), self.assertRaises(CommandError):
            call_command("doctor", stdout=out)
        self.assertIn("Put it back from a backup", out.getvalue())


class Silence(StudioCase):
    def test_one_missing_file_silences_its_track_only(self):
        made = self.session(self.wav("a.wav"), self.wav("b.wav", 1 + 0.6 * np.arange(30)))
        first, second = made.tracks.all()
        first.source.unlink()
        answer = self.client.get(f"/sessions/{made.pk}/blocks/2?tracks={first.pk},{second.pk}")
        self.assertEqual(answer.status_code, 200)
        self.assertEqual(answer["X-Silent"], str(first.pk))
        self.assertTrue(any(answer.content))

    def test_half_a_file_does_not_play_without_a_word(self):
        made = self.session(self.wav())
        track = made.tracks.get()
        data = track.source.read_bytes()
        track.source.write_bytes(data[: len(data) // 8])
        late = self.client.get(f"/sessions/{made.pk}/blocks/20?tracks={track.pk}")
        self.assertEqual(late["X-Silent"], str(track.pk))


class ClearingAway(StudioCase):
    def test_the_bin_after_thirty_days_and_half_sent_files_after_a_week(self):
        old, young = self.session(self.wav(), title="Old"), self.session(title="Young")
        for made in (old, young):
            self.client.delete(f"/sessions/{made.pk}")
        Session.everything.filter(pk=old.pk).update(gone_since=timezone.now() - timedelta(days=IN_BIN + 1))
        upload = Upload.objects.create(session=young, name="x.wav", size=10)
        upload.path.write_bytes(b"12345")
        Upload.objects.update(created=timezone.now() - timedelta(days=HALF_SENT + 1))
        made = [young.folder / "bundles" / "loops-1.zip", young.folder / "archive" / "step-1.zip"]
        for path in made:
            path.parent.mkdir(parents=True)
            path.write_bytes(b"x")
        week_ago = (timezone.now() - timedelta(days=MADE + 1)).timestamp()
        os.utime(made[0], (week_ago, week_ago))
        folder = old.folder
        clear_away()
        self.assertEqual([path.exists() for path in made], [False, True])
        self.assertEqual(list(Session.everything.values_list("title", flat=True)), ["Young"])
        self.assertFalse(folder.exists())
        self.assertFalse(upload.path.exists())
        self.assertEqual(Track.everything.count(), 0)
