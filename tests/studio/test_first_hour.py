"""The first hour: the dressed demo, and what is said where something is missing."""

import json
import socket
import subprocess
import sys
from io import StringIO
from unittest import TestCase as PlainCase
from unittest import mock

import numpy as np
import soundfile as sf
from django.conf import settings
from django.core.management import CommandError, call_command

from core.audio.loudness import loudness
from core.demo import boathouse
from studio.desk import history
from studio.desk.models import Mark
from studio.server import dressing
from studio.server.management.commands import serve
from tests.studio.base import StudioCase

READY = settings.BASE / "deploy" / "ready.py"


def taken_port(test):
    held = socket.socket()
    test.addCleanup(held.close)
    held.bind(("127.0.0.1", 0))
    held.listen()
    return held.getsockname()[1]


class Dressing(StudioCase):
    def test_it_names_sections_adds_a_part_and_is_all_undone_step_by_step(self):
        session = self.session(self.wav())
        history.record(session, boathouse.truth(), "Beats found")
        session.refresh_from_db()
        first = session.step_id
        dressing.dress(session)
        session.refresh_from_db()
        x, rate = sf.read(session.tracks.get().source)
        x = np.stack([x, x], axis=1) * 10 ** (session.tracks.get().gain / 20)
        self.assertAlmostEqual(loudness(x, rate), dressing.LOUDNESS, delta=0.1)
        sections = session.marks.filter(kind=Mark.Kind.SECTION)
        self.assertEqual([s.name for s in sections][:2], ["Round 1", "Round 2"])
        self.assertEqual(sections.last().end, float(boathouse.truth().bar_seconds(boathouse.truth().bar_range[1] + 1)))
        part = session.parts.get()
        self.assertEqual((part.name, part.gain), ("Drum for the gap", dressing.LEVEL))
        self.assertEqual({n[0] for n in json.loads(part.step.notes)}, set(range(dressing.FIRST, dressing.LAST + 1)))
        for _ in range(8):
            if session.step_id == first:
                break
            self.assertEqual(self.post(f"/sessions/{session.pk}/undo", by=-1).status_code, 200)
            session.refresh_from_db()
        self.assertEqual(session.step_id, first)

    def test_only_doubts_about_what_is_right_are_settled(self):
        truth = boathouse.truth()
        doubt = mock.Mock(start=30.0, end=32.0)
        self.assertFalse(dressing._is_wrong(doubt, truth))
        self.assertTrue(dressing._is_wrong(doubt, truth.with_points(truth.seconds + 0.2, truth.quarters)))
        self.assertTrue(dressing._is_wrong(mock.Mock(start=500.0, end=501.0), truth))


class Missing(PlainCase):
    def run_ready(self, *arguments, **options):
        done = subprocess.run([sys.executable, READY, *arguments], capture_output=True, text=True, **options)
        return done.returncode, done.stdout

    def test_nothing_is_said_where_nothing_is_missing(self):
        self.assertEqual(self.run_ready(), (0, ""))

    def test_a_port_in_use_is_one_sentence(self):
        port = taken_port(self)
        code, words = self.run_ready("--port", str(port))
        self.assertEqual((code, words.count("\n")), (1, 1))
        self.assertIn(f"make demo PORT={port + 1}", words)
        with self.assertRaisesRegex(CommandError, "Choose another --port"):
            serve._check_port("127.0.0.1", port)
        with self.assertRaises(CommandError):
            serve._check_port("127.0.0.1", 99_999)

    def test_a_missing_tool_and_a_wrong_python_are_sentences(self):
        code, words = self.run_ready(env={"PATH": "/nowhere"})
        self.assertEqual((code, words[:14]), (1, "npm is missing"))
        source = READY.read_text().replace("NEWEST = (3, 11), (3, 14)", "NEWEST = (3, 1), (3, 2)")
        done = subprocess.run([sys.executable, "-c", source], capture_output=True, text=True)
        self.assertIn("Diachron needs Python", done.stdout)

    def test_the_browser_is_opened_only_where_there_is_a_screen(self):
        with mock.patch.object(serve, "webbrowser") as browser, mock.patch.object(serve.threading, "Thread") as thread:
            with mock.patch.dict(serve.os.environ, {"DISPLAY": "", "WAYLAND_DISPLAY": ""}):
                serve.open_browser("http://x")
            thread.assert_not_called()
            with mock.patch.dict(serve.os.environ, {"DISPLAY": ":0"}):
                serve.open_browser("http://x")
            thread.assert_called_once_with(target=browser.open, args=("http://x",), daemon=True)


class Telling(StudioCase):
    def test_the_demo_says_what_it_does(self):
        out = StringIO()
        with (
            mock.patch("studio.server.management.commands.demo.PLAYS", (lambda: mock.Mock(title="A song"),)),
            mock.patch("studio.server.management.commands.demo._session_of", return_value=7),
            mock.patch("studio.server.management.commands.demo.MAIN", "A song"),
            self.settings(DATA=self.folder),
        ):
            call_command("demo", stdout=out)
        self.assertEqual(out.getvalue(), "Playing “A song” and finding its beats (1 of 1) ...\n")
