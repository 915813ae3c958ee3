"""The whole first story in the real page: tracks in, beats found, heard, corrected, delivered, nothing lost."""

import csv
import tempfile
from pathlib import Path
from unittest import TestCase

import mido
import mir_eval
import numpy as np
import soundfile as sf

from core.demo import boathouse
from core.demo.files import write_tracks
from tests.browser.studio import Browser, Studio, quiet, settled
from tests.shared import made_once

#: Remembers that the progress of uploads was shown: it may be over before a test can look.
KEEP_PROGRESS = """() => new MutationObserver(() => {
  if (document.querySelector(".uploading progress")) sessionStorage.progress = "shown";
}).observe(document.body, { childList: true, subtree: true })"""


class Story(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory()
        cls.folder = Path(cls.temporary.name)
        (cls.folder / "data").mkdir()
        made = made_once("boathouse", lambda folder: write_tracks(boathouse.perform(), folder))
        cls.files = sorted(made.iterdir())
        cls.studio = Studio(cls.folder / "data").start()
        cls.browser = Browser()

    @classmethod
    def tearDownClass(cls):
        cls.browser.close()
        cls.studio.stop()
        cls.temporary.cleanup()

    def test_from_stems_to_a_click_that_follows(self):
        page = self.browser.page()
        page.goto(self.studio.url)
        page.wait_for_selector("body[data-ready=yes]")
        self.gather(page)
        self.find(page)
        self.hear(page)
        self.correct(page)
        self.survive(page)
        self.deliver(page)
        self.assertEqual(self.browser.errors, [])

    def gather(self, page):
        page.evaluate(KEEP_PROGRESS)
        page.set_input_files("#choose", [str(f) for f in self.files])
        page.wait_for_url("**/desk")
        self.assertEqual(page.evaluate("sessionStorage.progress"), "shown")
        page.wait_for_selector("#jobs .job progress")
        self.studio.kill_worker()  # at once: on a busy machine the page settles later than the work ends
        settled(page)
        self.assertEqual(page.locator(".trackhead").count(), 5)

    def find(self, page):
        page.wait_for_function("desk.grid && desk.grid.length > 100")
        page.wait_for_function("document.body.dataset.busy === 'no'")
        found = np.array(page.evaluate("desk.grid.time"))
        truth = boathouse.truth()
        truth = truth.beats().seconds[truth.beats().seconds > truth.bar_seconds(1) - 0.01]
        found = found[(found > truth[0] - 0.3) & (found < truth[-1] + 0.3)]
        self.assertGreater(mir_eval.beat.f_measure(truth, found), 0.9)
        # waveforms and grid are on the canvas: many dark pixels, and the colour of bar lines
        quiet(page)
        dark, red = page.evaluate(
            """() => { const c = desk.canvas.lanes, d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data;
            let dark = 0, red = 0;
            for (let i = 0; i < d.length; i += 4) { if (d[i] < 120 && d[i + 2] > 90) dark++; if (d[i] > 140 && d[i + 1] < 140 && d[i + 2] < 130) red++; }
            return [dark, red]; }"""
        )
        self.assertGreater(dark, 10_000)
        self.assertGreater(red, 2_000)

    def hear(self, page):
        page.keyboard.press("Space")
        page.wait_for_function("desk.player.playing && desk.player.at > desk.facts.rate / 2")
        page.wait_for_function("document.getElementById('play').classList.contains('on')")
        page.keyboard.press("Space")
        page.wait_for_function("!desk.player.playing")
        page.keyboard.press("Home")
        page.wait_for_function("desk.player.at === 0")
        page.keyboard.press("l")
        self.assertIsNotNone(page.evaluate("desk.player.loop"))
        page.keyboard.press("l")

    def correct(self, page):
        """Zoom in on a bar line, drag it off its attack and let it snap back; drag it free; undo and redo."""
        page.evaluate("desk.view.set(30, 256)")
        quiet(page)
        place, x, time = page.evaluate(
            """() => { const g = desk.grid; for (let i = g.at(desk.view.start + 1); i < g.length; i++)
            if (g.beat[i] === 1) return [i, desk.view.x(g.time[i]), g.time[i]]; }"""
        )
        box = page.locator("#ruler").bounding_box()
        left, y = box["x"], box["y"] + 28
        page.mouse.move(left + x, y)
        page.mouse.down()
        page.mouse.move(left + x + 30, y, steps=4)
        page.wait_for_function("desk.before !== null")  # live preview
        page.keyboard.down("Alt")
        page.mouse.move(left + x + 40, y, steps=3)
        quiet(page)
        page.mouse.up()
        page.keyboard.up("Alt")
        page.wait_for_function("desk.here === 1")
        moved = page.evaluate("i => desk.grid.time[i]", place)
        self.assertAlmostEqual(moved - time, 40 * 256 / 48_000, delta=0.006)
        self.assertTrue(page.evaluate("i => desk.grid.isPinned(i)", place))
        page.locator("[data-pane=steps]").click()
        page.wait_for_selector(".steps [aria-current] >> text=Moved bar")
        page.keyboard.press("Control+z")
        page.wait_for_function("desk.here === 0")
        self.assertEqual(page.evaluate("i => desk.grid.time[i]", place), time)
        page.keyboard.press("Control+Shift+Z")
        page.wait_for_function("desk.here === 1")
        page.keyboard.press("d")
        page.wait_for_function("desk.here === 2")
        page.keyboard.press("h")
        page.wait_for_function("desk.here === 3")
        page.keyboard.press(")")
        page.wait_for_function("desk.here === 4")
        page.keyboard.press("Control+z")
        page.wait_for_function("desk.here === 3")
        self.assertTrue(page.evaluate("t => desk.grid.isPinned(desk.grid.nearest(t))", moved))

    def survive(self, page):
        """Kill the server outright, start it again, come back: everything stands as it was."""
        step = page.evaluate("desk.step")
        page.locator(".trackhead .flag.muted").first.click()
        page.wait_for_function("s => desk.step !== s", arg=step)  # that is a step, too
        quiet(page)
        before = page.evaluate("[desk.grid.time, desk.step]")
        self.studio.kill()
        self.studio.start()
        page.reload()
        settled(page)
        self.assertEqual(page.evaluate("[desk.grid.time, desk.step]"), before)
        self.assertEqual(page.locator(".trackhead .flag.muted").first.get_attribute("aria-pressed"), "true")

    def deliver(self, page):
        page.get_by_role("tab", name="Deliver").click()
        got = {}
        for pane, words in (
            ("Files", "Tempo map, MIDI file"),
            ("Files", "with a marker a bar"),
            ("Files", "Beats, CSV"),
            ("Click", "Get the click"),
        ):
            page.locator("#panel").get_by_role("tab", name=pane, exact=True).click()
            with page.expect_download() as download:
                page.locator("#panel a, #panel button").filter(has_text=words).first.click()
            path = self.folder / download.value.suggested_filename
            download.value.save_as(path)
            got[words] = path
        bars = {}
        now = 0.0
        for message in mido.MidiFile(got["with a marker a bar"]):
            now += message.time
            if message.type == "marker" and message.text.startswith("Bar "):
                bars[int(message.text[4:])] = now
        grid = page.evaluate("desk.grid")
        lines = {b: t for b, n, t in zip(grid["bar"], grid["beat"], grid["time"], strict=True) if n == 1 and b >= 1}
        self.assertGreater(len(lines), 40)
        self.assertLessEqual(len(set(lines) - set(bars)), 1)  # the map's very end may lie on a bar line
        for bar, t in lines.items():
            self.assertTrue(bar not in bars or abs(bars[bar] - t) < 1e-4, f"bar {bar}")
        click, rate = sf.read(got["Get the click"])
        self.assertEqual(rate, 48_000)
        for t in grid["time"]:
            at = round(t * rate)
            self.assertNotEqual(click[at], 0)
        with got["Beats, CSV"].open(newline="") as f:
            self.assertEqual(len(list(csv.DictReader(f))), len(grid["time"]))
