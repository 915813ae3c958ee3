"""What the server acknowledged survives a power cut.

A file system promises only what was written before the last sync of a file. SQLite's own file layer is recorded here
(apsw, "Virtual File System"), and after each commit the files are put together again from what was synced by then.
"""

import os
import sqlite3
import tempfile
from pathlib import Path
from unittest import TestCase

import apsw

from studio.settings import SQLITE


class Disk(apsw.VFS):
    """Passes everything on, and knows of each file what would be left of it after a power cut."""

    def __init__(self, name):
        self.name, self.now, self.durable = name, {}, {}
        super().__init__(name, "")

    def xOpen(self, name, flags):
        return RecordedFile(name, flags, self)

    def xDelete(self, filename, syncdir):
        super().xDelete(filename, syncdir)
        for files in (self.now, self.durable):
            files.pop(os.path.basename(filename), None)

    def image(self, folder):
        """The files as a power cut leaves them."""
        for name, data in self.durable.items():
            (Path(folder) / name).write_bytes(data)


class RecordedFile(apsw.VFSFile):
    def __init__(self, name, flags, disk):
        path = name.filename() if isinstance(name, apsw.URIFilename) else name
        self.key, self.disk = os.path.basename(path or "temporary"), disk
        super().__init__("", name, flags)
        disk.now.setdefault(self.key, bytearray())

    def xWrite(self, data, offset):
        super().xWrite(data, offset)
        mine = self.disk.now[self.key]
        mine.extend(bytes(max(0, offset + len(data) - len(mine))))
        mine[offset : offset + len(data)] = data

    def xTruncate(self, size):
        super().xTruncate(size)
        del self.disk.now[self.key][size:]

    def xSync(self, flags):
        super().xSync(flags)
        self.disk.durable[self.key] = bytes(self.disk.now[self.key])


class PowerLoss(TestCase):
    COMMITS = 60

    def survivors(self, pragmas):
        """After each of the commits, how many rows a power cut would leave."""
        with tempfile.TemporaryDirectory() as folder:
            disk = Disk(f"recorded-{id(self)}-{len(pragmas)}")
            page = apsw.Connection(str(Path(folder) / "d.sqlite3"), vfs=disk.name)
            page.execute("PRAGMA locking_mode=EXCLUSIVE")  # the log's index is in memory: it is no part of the promise
            page.execute(pragmas).fetchall()  # one statement after the other as its rows are read
            page.execute("CREATE TABLE edit (n INTEGER)")
            left = []
            for n in range(self.COMMITS):
                page.execute("BEGIN IMMEDIATE; INSERT INTO edit VALUES (?); COMMIT", (n,))
                with tempfile.TemporaryDirectory() as after:
                    disk.image(after)
                    there = sqlite3.connect(Path(after) / "d.sqlite3")
                    try:
                        left.append(there.execute("SELECT COUNT(*) FROM edit").fetchone()[0])
                    except sqlite3.DatabaseError:
                        left.append(0)
                    there.close()
            page.close()
            disk.unregister()
        return left

    def test_every_commit_is_there_after_a_power_cut(self):
        pragmas = SQLITE["OPTIONS"]["init_command"]
        self.assertEqual(self.survivors(pragmas), list(range(1, self.COMMITS + 1)))

    def test_the_recording_tells_a_setting_that_loses_commits(self):
        """So the test above can fail: without syncing each commit, the last ones are gone."""
        left = self.survivors("PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;")
        self.assertLess(sum(left), sum(range(1, self.COMMITS + 1)) / 2)
