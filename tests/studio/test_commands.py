"""The command ``diachron`` as it is called in a shell: on a new data folder, and with wrong arguments."""

import io
import os
import subprocess
import sys
from contextlib import redirect_stderr, redirect_stdout
from importlib.metadata import version
from unittest import mock

from django.core.management import CommandError, call_command

from studio import command_line, commands
from studio.archives import writing
from studio.server.data_folder import DATABASE
from tests.studio.base import StudioCase


class InAShell(StudioCase):
    def setUp(self):
        super().setUp()
        self.data = self.folder / "data"

    def called(self, *args):
        """Exit code and all words of a process of its own."""
        done = subprocess.run(
            [sys.executable, "-m", "studio", *map(str, args)],
            env={**os.environ, "DIACHRON_DATA": str(self.data), "TZ": "Asia/Kathmandu"},
            capture_output=True,
            text=True,
        )
        return done.returncode, done.stdout + done.stderr

    def test_where_nothing_was_served_it_is_told_and_nothing_is_made(self):
        code, words = self.called("doctor")
        told = f"diachron: There are no sessions in {self.data}. Name another folder in DIACHRON_DATA."
        self.assertEqual((code, words.strip()), (1, told))
        self.assertFalse((self.data / DATABASE).exists(), "restore would refuse")
        log = (self.data / "server.log").read_text()
        self.assertIn("+0545", log.splitlines()[0], "in this machine's time")

    def test_an_archive_is_opened_on_another_machine(self):
        path = self.folder / "take.zip"
        writing.write(self.session(self.wav("take.wav"), title="Lantern"), path)
        code, words = self.called("open", path)
        self.assertEqual((code, words.strip()), (0, "“Lantern” is open, with 1 track."))
        self.assertEqual((self.data / DATABASE).stat().st_mode & 0o077, 0, "for its owner alone")


class Told(StudioCase):
    def called(self, *args):
        out = io.StringIO()
        with redirect_stdout(out), redirect_stderr(out):
            code = command_line.main(list(args))
        return code, out.getvalue()

    def test_its_version_and_what_it_does_not_know(self):
        self.assertEqual(self.called("--version"), (0, f"diachron {version('diachron')}\n"))
        code, words = self.called("mpa")
        self.assertEqual(code, 2)
        self.assertIn("no command “mpa”", words)
        for name in (*command_line.cli.COMMANDS, "serve", "open", "doctor"):
            self.assertIn(f"\n  {name} ", words)

    def test_help_leaves_out_what_is_for_djangos_developers(self):
        for name in ("serve", "backup", "archive", "open", "restore", "doctor"):
            out = io.StringIO()
            with redirect_stdout(out), self.assertRaises(SystemExit):
                command_line.main([name, "--help"])
            self.assertIn(f"usage: diachron {name} [-h]", out.getvalue())
            self.assertNotIn("--settings", out.getvalue())

    def test_what_cannot_be_done(self):
        for name, options, words in (
            ("serve", {"workers": 0}, "Between 1 and 256 workers"),
            ("serve", {"port": 99_999}, "from 1 to 65535"),
            ("archive", {"verify": True}, "Name the files"),
            ("archive", {"all": True, "to": self.wav()}, "cannot be a folder"),
        ):
            with self.assertRaisesRegex(CommandError, words):
                call_command(name, **options)

    def test_sessions_of_an_earlier_version(self):
        with (
            mock.patch.object(commands.database, "is_behind", return_value=True),
            self.assertRaisesRegex(CommandError, "Start it once"),
        ):
            call_command("archive", all=True)
