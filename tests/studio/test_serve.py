"""The serving process: the database's log is written back beside the edits, and nothing in it is lost."""

import sqlite3
import tempfile
from pathlib import Path
from unittest import TestCase, mock

from django.core.management import CommandError, call_command

from studio.server.management.commands import serve


class WriteBack(TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "x.sqlite3"
        self.database = sqlite3.connect(self.path, isolation_level=None)
        self.addCleanup(self.database.close)
        self.database.executescript("PRAGMA journal_mode=WAL; PRAGMA wal_autocheckpoint=0; CREATE TABLE t (x BLOB);")
        own = mock.patch.object(serve, "connection", mock.MagicMock(settings_dict={"NAME": self.path}))
        connection = own.start()
        self.addCleanup(own.stop)
        connection.cursor.return_value.__enter__.return_value = self.database.cursor()

    def write(self, bytes_):
        self.database.execute("INSERT INTO t VALUES (zeroblob(?))", [bytes_])

    def test_a_long_log_reaches_the_database(self):
        before = self.path.stat().st_size
        self.write(serve.LOG + 1)
        self.assertEqual(self.path.stat().st_size, before)
        serve.write_back()
        self.assertGreater(self.path.stat().st_size, serve.LOG)
        self.write(10)  # writers go on
        self.assertEqual(self.database.execute("SELECT count(*) FROM t").fetchone(), (2,))

    def test_a_short_one_is_left_alone(self):
        self.write(1000)
        before = self.path.stat().st_size
        serve.write_back()
        self.assertEqual(self.path.stat().st_size, before)


class Refusals(TestCase):
    def test_without_a_login_it_listens_on_this_machine_only(self):
        with self.assertRaisesRegex(CommandError, "listens on this machine only"):
            call_command("serve", host="0.0.0.0")
