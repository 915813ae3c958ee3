"""The serving process: the database's log is written back beside the edits, and nothing in it is lost."""

import gzip
import json
import os
import re
import socket
import sqlite3
import subprocess
import sys
import tempfile
import urllib.parse
import urllib.request
from pathlib import Path
from unittest import TestCase, mock

from django import test
from django.conf import settings
from django.core.management import CommandError, call_command

from studio.server.management.commands import serve
from studio.server.static_files import show_below


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


class Alone(test.TestCase):
    def test_browsers_keep_styles_for_ever_at_the_address_of_their_version(self):
        address = re.search(r"/static/(\w+)/studio/theme\.css", self.client.get("/").content.decode())
        self.assertEqual(address[1], settings.STATIC_VERSION)
        answer = self.client.get(address[0])
        self.assertIn("immutable", answer.headers["Cache-Control"])
        self.assertIn(b"--serif", b"".join(answer))
        self.assertEqual(self.client.get(address[0].replace(address[1], "0" * 12)).status_code, 404)

    def test_below_a_proxy_s_path_pages_ask_for_them_there(self):
        for prefix in ("/maps", "maps", "/maps/"):
            with self.subTest(prefix), test.override_settings(STATIC_URL=settings.STATIC_URL):
                show_below(prefix)
                page = test.Client().get("/").content.decode()
                self.assertIn(f'href="/maps/static/{settings.STATIC_VERSION}/studio/theme.css"', page)
                # the server takes the path off
                answer = test.Client().get(f"/static/{settings.STATIC_VERSION}/studio/theme.css")
                self.assertIn("immutable", answer.headers["Cache-Control"])


class SharedServers(TestCase):
    """Two web processes on one data folder, as people meet them."""

    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        cls.addClassCleanup(folder.cleanup)
        cls.data = Path(folder.name)
        cls.first = cls.server("--workers", "1")
        cls.second = cls.server("--web-only")

    @classmethod
    def server(cls, *more):
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            port = s.getsockname()[1]
        command = [sys.executable, "manage.py", "serve", "--shared", "--plain-http", "--port", str(port), *more]
        process = subprocess.Popen(
            command, cwd=settings.BASE, env={**os.environ, "DIACHRON_DATA": str(cls.data)}, text=True,
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
        )  # fmt: skip
        cls.addClassCleanup(process.stdout.close)
        cls.addClassCleanup(process.wait, 20)
        cls.addClassCleanup(process.terminate)
        for line in process.stdout:
            if "There is no administrator" in line:
                cls.invitation = line.split()[-1]
            if "Diachron is at" in line:
                return f"http://127.0.0.1:{port}"
        raise AssertionError("it did not begin")

    def test_styles_are_compressed_and_kept_for_ever_under_the_same_address_in_both(self):
        pages = [urllib.request.urlopen(f"{at}/login").read().decode() for at in (self.first, self.second)]
        addresses = [re.search(r"/static/\w+/studio/theme\.css", page)[0] for page in pages]
        self.assertEqual(*addresses)
        asked = urllib.request.Request(self.second + addresses[0], headers={"Accept-Encoding": "gzip"})
        answer = urllib.request.urlopen(asked)
        self.assertEqual(answer.headers["Content-Encoding"], "gzip")
        self.assertIn("immutable", answer.headers["Cache-Control"])
        self.assertIn(b"--serif", gzip.decompress(answer.read()))
        script = addresses[0].replace("studio/theme.css", "desk/desk.js")
        self.assertEqual(urllib.request.urlopen(self.first + script).status, 200)

    def test_what_one_writes_the_other_shows(self):
        admin = self.logged_in()
        made = admin.post(f"{self.first}/sessions/new", {"title": "Lantern"})
        page = admin.get(f"{self.second}{made['url']}")
        self.assertIn("Lantern", page)
        admin.post(f"{self.second}/sessions/{made['id']}", {"title": "Slipway"}, form=True)
        self.assertIn("Slipway", admin.get(f"{self.first}{made['url']}"))

    def logged_in(self):
        return Visitor(self.invitation)


class Visitor:
    """Somebody with cookies who takes the first invitation."""

    def __init__(self, invitation):
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
        self.get(invitation)
        self.post(invitation, {"username": "admin", "new_password1": "a slipway at low tide",
                               "new_password2": "a slipway at low tide"}, form=True)  # fmt: skip

    def get(self, url):
        return self.opener.open(url).read().decode()

    def post(self, url, fields, form=False):
        jar = next(h for h in self.opener.handlers if hasattr(h, "cookiejar")).cookiejar
        token = next((c.value for c in jar if c.name == "csrftoken"), "")
        data = urllib.parse.urlencode(fields).encode() if form else json.dumps(fields).encode()
        kind = "application/x-www-form-urlencoded" if form else "application/json"
        asked = urllib.request.Request(url, data, {"Content-Type": kind, "X-CSRFToken": token})
        text = self.opener.open(asked).read().decode()
        return json.loads(text) if text.startswith("{") else text
