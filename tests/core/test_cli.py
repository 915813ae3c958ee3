"""The command line: what it writes, and how it refuses."""

import contextlib
import io
import json
import subprocess
import sys
from pathlib import Path
from unittest import mock

import mido
import numpy as np
import soundfile as sf

from core.cli import main
from tests.core.test_listening import Folder, strokes


class Commands(Folder):
    def called(self, *args):
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            try:
                code = main(list(map(str, args)))
            except SystemExit as e:
                code = e.code
        return code, out.getvalue(), err.getvalue()

    def take(self):
        path = self.folder / "kick.wav"
        accents = sum(
            strokes((2 + 0.5 * np.arange(40))[k::4], seconds=23, level=0.8 if k == 0 else 0.5) for k in range(4)
        )
        sf.write(path, accents, 44_100)
        return path

    def test_writes_json_midi_and_click(self):
        outs = [self.folder / n for n in ("o.json", "o.mid", "o.wav")]
        code, words, _ = self.called(
            "map", self.take(), "--json", outs[0], "--midi", outs[1], "--click", outs[2], "--guide", "kick=2"
        )
        self.assertEqual(code, 0)
        self.assertIn("120.0", words)
        data = json.loads(outs[0].read_text())
        self.assertEqual(set(data), {"version", "duration", "beats", "bars", "tempo", "guide", "doubts"})
        self.assertEqual(data["version"], 1)
        self.assertAlmostEqual(data["duration"], 23, places=3)
        self.assertEqual(set(data["beats"][0]), {"time", "bar", "beat", "confidence"})
        self.assertEqual(set(data["bars"][0]), {"number", "time", "numerator", "denominator"})
        self.assertEqual(set(data["tempo"][0]), {"time", "quarters", "bpm"})
        self.assertEqual(data["guide"], [{"file": "kick.wav", "weight": 1.0}])
        times = np.array([b["time"] for b in data["beats"]])
        np.testing.assert_allclose(np.diff(times), 0.5, atol=0.002)
        self.assertEqual(mido.MidiFile(outs[1]).type, 1)
        click, rate = sf.read(outs[2])
        self.assertEqual((rate, len(click)), (44_100, 23 * 44_100))
        self.assertTrue(all(click[round(t * rate)] != 0 for t in times))

    def test_the_asked_meter_and_tempo(self):
        out = self.folder / "o.json"
        self.called("map", self.take(), "--json", out, "--tempo", "50-70", "--meter", "3/4")
        data = json.loads(out.read_text())
        self.assertEqual((data["bars"][0]["numerator"], data["bars"][0]["denominator"]), (3, 4))
        self.assertAlmostEqual(np.median(np.diff([b["time"] for b in data["beats"]])), 1.0, delta=0.01)

    def test_bad_input_ends_with_two_and_a_sentence(self):
        take = self.take()
        text = self.folder / "x.wav"
        text.write_text("nothing")
        short = self.folder / "short.wav"
        sf.write(short, np.zeros(44_100), 44_100)
        silent = self.folder / "silent.wav"
        sf.write(silent, np.zeros(44_100 * 8), 44_100)
        for args, words in (
            ([self.folder / "gone.wav"], "does not exist"),
            ([text], "not audio"),
            ([short], "lasts 1.0 s"),
            ([silent], "No beats"),
            ([take, "--guide", "snare=1"], "no track"),
            ([take, "--guide", "kick=x"], "NAME=WEIGHT"),
            ([take, "--tempo", "90"], "LOW-HIGH"),
            ([take, "--meter", "4/5"], "lower number"),
            ([take, "--guide", "kick=nan"], "NAME=WEIGHT"),
            ([take, "--guide", "kick=-1"], "NAME=WEIGHT"),
            ([take, "--start", "nan"], "“nan” is no number of seconds"),
            ([take, "--pin", "1e9"], "lies outside the take"),
            ([self.folder], "is a folder; name the files in it"),
            ([take, "--json", self.folder / "no" / "o.json"], "There is no folder"),
            ([take, "--midi", self.folder], "is a folder; name a file in it"),
            ([take, "--click", take.parent / "." / take.name], "never overwritten"),
        ):
            code, _, err = self.called("map", *args)
            self.assertEqual(code, 2, args)
            self.assertIn(words, err)
            self.assertNotIn("Traceback", err)

    def test_conform_tells_what_is_wrong_before_it_analyses(self):
        take, text = self.take(), self.folder / "text"
        text.write_text("nothing")
        for args, words in (
            (["-o", text], "is a file; the new tracks need a folder"),
            (["-o", "out", "--bars-later", 2], "needs --map"),
            (["-o", "out", "--from-map", self.folder / "gone.json"], "No such file"),
            (["-o", "out", "--map", text], "holds no list of beats"),
        ):
            with mock.patch("core.cli.conforming.analyse_sources", side_effect=AssertionError("too early")):
                code, _, err = self.called("conform", take, *args)
            self.assertEqual(code, 2, err)
            self.assertIn(words, err)

    def test_it_is_installed_in_the_environment(self):
        command = Path(sys.executable).parent / "diachron"
        done = subprocess.run([command, "--help"], capture_output=True, text=True)
        self.assertEqual(done.returncode, 0)
        self.assertIn("map", done.stdout)
