"""Many performances unattended: rules, folders, a kill in the middle, a bad file, a cluster, tags."""

import contextlib
import csv
import io
import json
import os
import signal
import subprocess
import sys
import time
from concurrent.futures import BrokenExecutor, ThreadPoolExecutor
from pathlib import Path
from unittest import mock

import mido
import numpy as np
import soundfile as sf
from mutagen.flac import FLAC
from tinytag import TinyTag

from core.batch import report, rules, running, sending, takes, work
from core.batch.outputs import WRITERS
from core.batch.work import Outcome
from core.cli import main
from core.formats.carried import read_carried
from core.tempomap import Meter
from tests.core.test_listening import Folder

RATE = 22_050


def called(*args):
    """The command line in this process, which may have no processes of its own: threads take their place."""
    out, err = io.StringIO(), io.StringIO()
    threads = mock.patch.object(running, "pool", lambda workers: lambda: ThreadPoolExecutor(workers))
    with threads, contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = main(list(map(str, args)))
    return code, out.getvalue(), err.getvalue()


class Batch(Folder):
    def setUp(self):
        super().setUp()
        self.out = self.folder / "out"

    def play(self, name, bpm=120, seconds=12):
        """A drummer: low drum on one and three, snare on two and four, a cymbal on all eighths."""
        path = self.folder / "in" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        rng, t = np.random.default_rng(1), np.arange(round(0.2 * RATE)) / RATE
        low = 0.8 * np.sin(2 * np.pi * 60 * t) * np.exp(-t / 0.06)
        snare = 0.4 * rng.standard_normal(len(t)) * np.exp(-t / 0.05)
        cymbal = 0.1 * np.diff(rng.standard_normal(len(t) + 1)) * np.exp(-t / 0.02)
        sound = np.zeros(round(seconds * RATE))
        for k in range(int((seconds - 2) * bpm / 30)):
            at = round((1 + k * 30 / bpm) * RATE)
            stroke = cymbal + (0 if k % 2 else low if k % 4 == 0 else snare) + (0.5 * low if k % 8 == 0 else 0)
            sound[at : at + len(t)] += stroke[: len(sound) - at]
        sound *= 0.5
        sf.write(path, sound, RATE)
        return path

    def run_in_thread(self, found, write=("csv",), progress=lambda *_: None):
        return running.run(found, write, self.out, lambda: ThreadPoolExecutor(1), 1, progress)


class Rules(Batch):
    def read(self, text):
        path = self.folder / "rules.toml"
        path.write_text(text, encoding="utf-8")
        return rules.read(path, list(WRITERS))

    def test_the_first_rule_that_matches_counts(self):
        found = self.read(
            'write = ["midi", "jams"]\n[[rule]]\nmatch = "live/*"\ntempo = "70-100"\nmeter = "3/4"\nkind = "free"\n'
            'guide = { kick = 2 }\n[[rule]]\nmatch = "*"\nkind = "steady"\neach = "file"\n'
        )
        self.assertEqual(found.write, ("midi", "jams"))
        live, other = found.of("Live/Monday"), found.of("studio")
        options = live.options_for(["Kick.wav", "bass.wav"])
        self.assertEqual((options.tempo, options.meter), ((70, 100), Meter.parse("3/4")))
        self.assertEqual((options.exact_tempo, dict(options.guides)), (False, {"Kick.wav": 2}))
        self.assertEqual((other.each, other.options.exact_tempo), ("file", True))

    def test_what_is_wrong_is_told_with_its_place(self):
        for text, words in (
            ("write = [", "is not TOML"),
            ('write = ["wma"]', "“wma” cannot be written"),
            ("tempo = 3", "“tempo” is not known"),
            ('[[rule]]\ntempo = "fast"', "rule 1: .*70-180"),
            ('[[rule]]\n[[rule]]\nmeter = "x"', "rule 2: "),
            ('[[rule]]\nkind = "wild"', "steady"),
            ('[[rule]]\nguide = { kick = "much" }', "rule 1"),
            ("rule = 3", "begins with"),
        ):
            with self.subTest(text), self.assertRaisesRegex(rules.RulesError, words):
                self.read(text)


class Takes(Batch):
    def test_a_folder_is_a_performance_and_so_is_each_file_where_a_rule_says_so(self):
        for name in (
            "live/monday/kick.wav",
            "live/monday/bass.wav",
            "live/.hidden/x.wav",
            "loops/a.flac",
            "loops/b.flac",
        ):
            self.play(name, seconds=2)
        (self.folder / "in" / "live" / "monday" / "notes.txt").write_text("x")
        chosen = rules.Rules((rules.Rule("loops", "file"), rules.Rule()))
        found = takes.find([self.folder / "in"], chosen)
        self.assertEqual([t.name for t in found], ["live/monday", "loops/a", "loops/b"])
        self.assertEqual([f.name for f in found[0].files], ["bass.wav", "kick.wav"])

    def test_what_a_batch_has_written_is_no_performance_and_a_folder_named_twice_is_one(self):
        self.play("a/x.wav", seconds=2)
        (take,) = takes.find([self.folder / "in"], rules.Rules())
        out = self.folder / "in" / "maps"
        work.keep(Outcome(take.name, ""), out)
        for name in ("click.wav", "tracks/x.wav"):
            self.play(f"maps/{take.name}/{name}", seconds=2)
        self.assertEqual([t.files for t in takes.find([self.folder / "in"] * 2, rules.Rules())], [take.files])

    def test_names_stay_apart(self):
        one, two = self.play("x/a.wav", seconds=2), self.play("y/a.wav", seconds=2)
        found = takes.find([one, two], rules.Rules())
        self.assertEqual(len({t.name for t in found}), 2)
        self.assertNotEqual(work.place_of("a?b"), work.place_of("a_b"))

    def test_a_changed_file_or_rule_is_another_take(self):
        path = self.play("a/x.wav", seconds=2)
        (take,) = takes.find([path.parent], rules.Rules())
        key = take.key(("csv",))
        self.assertNotEqual(key, take.key(("midi",)))
        os.utime(path, (1, 1))
        self.assertNotEqual(key, take.key(("csv",)))


class Running(Batch):
    def test_every_output_is_written_and_read_back(self):
        self.play("song/drums.wav")
        found = takes.find([self.folder / "in"], rules.Rules())
        (outcome,) = self.run_in_thread(found, tuple(WRITERS))
        self.assertAlmostEqual(outcome.bpm, 120, places=1)
        self.assertTrue(outcome.sure, outcome)
        place = self.out / "song"
        self.assertEqual(
            {p.name for p in place.iterdir()},
            {"map.json", "map.mid", "beats.csv", "labels.txt", "map.jams", "map.musicxml", "bars.vtt", "click.wav",
             "tracks", "outcome.json"},
        )  # fmt: skip
        self.assertEqual(mido.MidiFile(place / "map.mid").type, 1)
        carried = read_carried(place / "tracks" / "drums.wav")
        self.assertAlmostEqual(float(carried.map.bar_seconds(1)), outcome.first_beat, places=9)
        self.assertEqual(sf.info(place / "click.wav").frames, 12 * RATE)

    def test_a_bad_file_stops_nobody_and_stands_first_in_the_report(self):
        self.play("good/drums.wav")
        bad = self.folder / "in" / "bad"
        bad.mkdir()
        (bad / "x.wav").write_bytes(b"RIFF no sound at all")
        sf.write(bad.parent / "short.wav", np.zeros(RATE), RATE)
        code, words, _ = called("batch", self.folder / "in", "-o", self.out, "--workers", 1, "--write", "csv")
        self.assertEqual(code, 0)
        self.assertIn("1 sure, 0 to check, 2 without a map", words)
        rows = list(csv.DictReader((self.out / "report.csv").open(encoding="utf-8")))
        self.assertEqual([r["state"] for r in rows], ["failed", "failed", "sure"])
        self.assertIn("not audio", rows[0]["reason"] + rows[1]["reason"])
        page = (self.out / "report.html").read_text(encoding="utf-8")
        self.assertIn("<title>1 sure, 0 to check, 2 without a map</title>", page)

    def test_a_take_that_kills_its_process_is_told_and_harms_no_other(self):
        for k in range(6):
            self.play(f"take {k}/x.wav", seconds=2)
        found = takes.find([self.folder / "in"], rules.Rules())
        pools = []

        class Dying(ThreadPoolExecutor):
            """As a pool of processes behaves when one dies: all that it has is lost, and it takes nothing more."""

            def submit(self, do, take, *args):
                if getattr(self, "broken", False):
                    raise BrokenExecutor
                return super().submit(self.work, do, take, *args)

            def work(self, do, take, *args):
                if take.name == "take 2":
                    self.broken = True
                if getattr(self, "broken", False):
                    raise BrokenExecutor
                return Outcome(take.name, "k", bpm=100)

        def make():
            pools.append(Dying(1))
            return pools[-1]

        outcomes = running.run(found, ("csv",), self.out, make, 1)
        self.assertEqual([bool(o.error) for o in outcomes], [False, False, True, False, False, False])
        self.assertIn("died twice", outcomes[2].error)

    def test_a_bug_is_told_as_such_with_its_traceback_and_stops_nobody(self):
        self.play("a/x.wav")
        self.play("b/x.wav")
        found = takes.find([self.folder / "in"], rules.Rules())
        broken = mock.Mock(side_effect=[ZeroDivisionError("ours"), None])
        with mock.patch.dict(WRITERS, {"csv": broken}):
            first, second = self.run_in_thread(found)
        self.assertIn("An error in Diachron itself", first.error)
        self.assertEqual(second.error, "")
        log = (self.out / work.LOG).read_text(encoding="utf-8")
        self.assertIn("ZeroDivisionError: ours", log)
        self.assertTrue(log.startswith("a\n"))

    def test_what_was_done_is_not_done_again_until_its_file_changes(self):
        for name in ("a/x.wav", "b/x.wav"):
            self.play(name)
        plain = rules.Rules()
        first = self.run_in_thread(takes.find([self.folder / "in"], plain))
        stamps = {p: p.stat().st_mtime_ns for p in self.out.rglob("beats.csv")}
        self.assertEqual(len(stamps), 2)
        self.play("b/x.wav", bpm=100)
        second = self.run_in_thread(takes.find([self.folder / "in"], plain))
        again = {p for p, stamp in stamps.items() if p.stat().st_mtime_ns != stamp}
        self.assertEqual([p.parent.name for p in again], ["b"])
        self.assertEqual(first[0], second[0])
        self.assertAlmostEqual(second[1].bpm, 100, places=1)

    def test_a_file_that_is_gone_stops_nobody(self):
        self.play("a/x.wav")
        self.play("b/x.wav")
        found = takes.find([self.folder / "in"], rules.Rules())
        (self.folder / "in/a/x.wav").unlink()
        for send in (False, True):
            with self.subTest(send=send):
                threads = lambda: ThreadPoolExecutor(1)  # noqa: E731
                gone, there = running.run(found, ("csv",), self.folder / f"out {send}", threads, 1, send=send)
                self.assertTrue(gone.error)
                self.assertEqual(there.error, "")

    def run_and_kill_a_worker(self, kind, count):
        for k in range(count):
            self.play(f"take {k}/x.wav")
        command = [sys.executable, "-m", "tests.core.batch_run", kind, self.folder / "in", self.out]
        done = subprocess.run(list(map(str, command)), capture_output=True, text=True, timeout=300)
        self.assertEqual(done.returncode, 0, done.stderr)
        told = json.loads(done.stdout.splitlines()[-1])
        self.assertEqual(told["killed"], 1)
        self.assertEqual(sorted(told["told"]), [f"take {k}" for k in range(count)])
        self.assertEqual(told["errors"], [""] * count)

    def test_a_worker_that_is_killed_loses_nothing_and_nothing_is_done_twice(self):
        self.run_and_kill_a_worker("pool", 5)

    def test_a_cluster_of_two_workers_does_the_same_though_one_dies(self):
        """Takes are sent to it by content."""
        self.run_and_kill_a_worker("cluster", 4)
        self.assertEqual(len(list(self.out.rglob("beats.csv"))), 4)
        kept = [json.loads(p.read_text(encoding="utf-8")) for p in self.out.rglob("outcome.json")]
        self.assertEqual({Path(f).parents[1] for outcome in kept for f in outcome["files"]}, {self.folder / "in"})

    def test_sent_by_content_the_same_is_written(self):
        self.play("a/x.wav")
        (self.folder / "in/b").mkdir()
        (self.folder / "in/b/broken.wav").write_bytes(b"RIFF nothing")
        found = takes.find([self.folder / "in"], rules.Rules())
        write = ("json", "csv", "tracks")
        near = [work.do(take, write, self.folder / "near") for take in found]
        (self.folder / "far").mkdir()
        far = [sending.unpack(sending.do(sending.pack(t, write), write), t, self.folder / "far") for t in found]
        self.assertEqual(near, far)
        self.assertTrue(far[1].error)

        def written(name):
            base = self.folder / name
            return {p.relative_to(base): p.read_bytes() for p in base.rglob("*") if p.is_file()}

        self.assertEqual(written("near"), written("far"))
        self.assertIn(Path("a/tracks/x.wav"), written("far"))

    def test_a_batch_that_is_killed_goes_on_where_it_stopped(self):
        for k in range(4):
            self.play(f"take {k}/x.wav")
        command = [sys.executable, "-m", "core.cli", "batch", str(self.folder / "in"), "-o", str(self.out),
                   "--workers", "1", "--write", "csv"]  # fmt: skip
        process = subprocess.Popen(command, stderr=subprocess.PIPE, text=True, start_new_session=True)
        self.assertIn("1 of 4", process.stderr.readline())
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        process.stderr.close()
        time.sleep(0.1)
        done = {p: p.stat().st_mtime_ns for p in self.out.rglob("outcome.json")}
        self.assertTrue(1 <= len(done) < 4)
        self.assertEqual(list(self.out.glob("report.*")), [])
        found = takes.find([self.folder / "in"], rules.Rules())
        outcomes = self.run_in_thread(found)
        self.assertEqual([o.error for o in outcomes], [""] * 4)
        self.assertEqual({p: p.stat().st_mtime_ns for p in done}, done)


class Calls(Batch):
    def test_what_cannot_be_done_is_told(self):
        self.play("a/x.wav", seconds=2)
        (self.folder / "empty").mkdir()
        for args, words in (
            (["batch", self.folder / "nowhere", "-o", self.out], "does not exist"),
            (["batch", self.folder / "empty", "-o", self.out], "no audio or MIDI"),
            (["batch", self.folder / "in", "-o", self.out, "--write", "wma"], "“wma” cannot be written"),
            (["batch", self.folder / "in", "-o", self.out, "--workers", "0"], "Between 1 and 256"),
            (["batch", self.folder / "in", "-o", self.out, "--rules", self.folder / "none.toml"], "none.toml"),
            (
                ["batch", self.folder / "in", "-o", self.folder / "in"],
                "“a” would be written into the folder",
            ),
            (["batch", self.folder / "in", "-o", self.out, "--cluster", "nowhere"], "no cluster at “nowhere”"),
            (["tag", self.folder / "empty"], "no report"),
        ):
            with self.subTest(words):
                code, _, err = called(*args)
                self.assertEqual(code, 2)
                self.assertIn(words, err)

    def test_tags_are_told_first_then_written_and_never_replaced_unasked(self):
        wave, lossless = self.play("a/x.wav"), self.play("a/y.flac")
        other = FLAC(lossless)
        other["BPM"], other["artist"] = "77", "The Slipway Three"
        other.save()
        sound = sf.read(wave)[0]
        called("batch", self.folder / "in", "-o", self.out, "--workers", 1, "--write", "csv")
        before = wave.read_bytes(), lossless.read_bytes()
        _, words, _ = called("tag", self.out)
        self.assertIn("With --write 1 of 2 files", words)
        self.assertIn("has tempo 77 already", words)
        self.assertEqual((wave.read_bytes(), lossless.read_bytes()), before)
        called("tag", self.out, "--write")
        tag = TinyTag.get(wave)
        self.assertEqual(float(tag.as_dict()["bpm"][0]), 120)
        first = json.loads((self.out / "report.json").read_text(encoding="utf-8"))[0]["first_beat"]
        self.assertAlmostEqual(float(tag.as_dict()["first_beat"][0]), first, places=5)
        np.testing.assert_array_equal(sf.read(wave)[0], sound)
        self.assertEqual(lossless.read_bytes(), before[1])
        called("tag", self.out, "--write", "--replace")
        self.assertAlmostEqual(float(FLAC(lossless)["BPM"][0]), 120, places=1)
        self.assertEqual(FLAC(lossless)["artist"], ["The Slipway Three"])


class Report(Folder):
    def test_what_needs_an_ear_comes_first_and_names_are_written_out(self):
        outcomes = [
            Outcome("calm", "k", bpm=90, seconds=120, confidence=0.99),
            Outcome("<b>wild</b>", "k", bpm=90, seconds=60, doubts=4, reason="x & y", confidence=0.7),
            Outcome("broken", "k", error="no sound"),
            Outcome("faint", "k", bpm=90, seconds=60, confidence=0.5),
        ]
        order = [o.name for o in report.ordered(outcomes)]
        self.assertEqual(order, ["broken", "<b>wild</b>", "faint", "calm"])
        self.assertEqual(report.summary(outcomes), "1 sure, 2 to check, 1 without a map")
        page = report.write(outcomes, self.folder).read_text(encoding="utf-8")
        self.assertIn("&lt;b&gt;wild&lt;/b&gt;", page)
        self.assertIn("x &amp; y", page)
        self.assertNotIn("<b>wild", page)
        self.assertEqual(list(Path(self.folder).glob("*.partial")), [])
