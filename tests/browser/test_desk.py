"""The desk in the real page with a small take: dropping, pointing, keys, messages, sizes."""

import base64
import tempfile
from pathlib import Path
from unittest import TestCase

import numpy as np
import soundfile as sf

from tests.browser.studio import SCRIPTS, Browser, Studio, quiet, settled
from tests.core.test_listening import strokes

DROP = """async (files) => {
  const transfer = new DataTransfer();
  for (const [name, data] of files) transfer.items.add(new File([Uint8Array.from(atob(data), (c) => c.charCodeAt(0))], name));
  for (const type of ['dragenter', 'dragover', 'drop'])
    document.body.dispatchEvent(new DragEvent(type, {dataTransfer: transfer, bubbles: true, cancelable: true}));
}"""


class Desk(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory()
        cls.folder = Path(cls.temporary.name)
        cls.studio = Studio(cls.folder).start()
        cls.browser = Browser()
        cls.page = cls.browser.page()
        times = 1 + 0.5 * np.arange(60)
        sf.write(cls.folder / "kick.wav", strokes(times), 44_100)
        sf.write(cls.folder / "hat.wav", strokes(times + 0.25, level=0.3), 44_100)
        cls.drop(cls.page, ["kick.wav", "hat.wav"], cls.studio.url)
        cls.page.wait_for_url("**/desk")
        cls.page.wait_for_function("globalThis.desk?.grid")
        settled(cls.page)

    @classmethod
    def tearDownClass(cls):
        cls.browser.close()
        cls.studio.stop()
        cls.temporary.cleanup()

    @classmethod
    def drop(cls, page, names, url=None):
        if url:
            page.goto(url)
            page.wait_for_selector("body[data-ready=yes]")
        page.evaluate(DROP, [[n, base64.b64encode((cls.folder / n).read_bytes()).decode()] for n in names])

    def tearDown(self):
        self.assertEqual(self.browser.errors, [])
        while self.page.locator(".note button").count():
            self.page.locator(".note button").first.click()

    #: Contrast of two named colours of the page, as WCAG 2.2 defines it (relative luminance, 1.4.3).
    RATIO = """([a, b]) => {
      const light = (name) => {
        const hex = getComputedStyle(document.documentElement).getPropertyValue(name).trim().match(/[0-9a-f]{2}/gi);
        const [r, g, b] = hex.map((h) => parseInt(h, 16) / 255).map((c) => (c <= 0.04045 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4));
        return 0.2126 * r + 0.7152 * g + 0.0722 * b;
      };
      const [low, high] = [light(a), light(b)].sort((x, y) => x - y);
      return (high + 0.05) / (low + 0.05);
    }"""

    def test_high_contrast_reaches_seven_to_one_and_stays_chosen(self):
        words = ("--ink", "--faded", "--madder", "--verdigris", "--ochre")
        self.assertGreater(min(self.page.evaluate(self.RATIO, [w, "--paper"]) for w in words), 4.5)
        self.page.keyboard.press("Shift+H")
        self.assertGreater(min(self.page.evaluate(self.RATIO, [w, "--paper"]) for w in words), 7)
        wave = f"import({SCRIPTS} + 'desk/palette.js').then((m) => m.INK.wave)"
        self.assertEqual(self.page.evaluate(wave), "#1d3050")
        self.page.reload()
        settled(self.page)
        self.assertEqual(self.page.evaluate("document.documentElement.dataset.contrast"), "strong")
        self.page.keyboard.press("Shift+H")
        self.assertEqual(self.page.evaluate("document.documentElement.dataset.contrast"), "usual")

    def test_files_that_are_no_sound_leave_the_session_as_it_is(self):
        (self.folder / "letter.wav").write_text("dear engineer")
        self.drop(self.page, ["letter.wav", "kick.wav"])
        self.page.wait_for_selector(".note.bad >> text=not audio")
        self.page.wait_for_selector(".note.bad >> text=already here")
        self.assertEqual(self.page.locator(".trackhead").count(), 2)

    def test_wheel_zooms_around_the_pointer_and_scrolls(self):
        page = self.page
        page.keyboard.press("w")
        box = page.locator("#lanes").bounding_box()
        x = 300
        page.mouse.move(box["x"] + x, box["y"] + 60)
        under = page.evaluate("x => desk.view.time(x)", x)
        page.keyboard.down("Control")
        for _ in range(8):
            page.mouse.wheel(0, -120)
        page.keyboard.up("Control")
        page.wait_for_function("desk.view.spp < desk.view.widest / 4")
        self.assertAlmostEqual(page.evaluate("x => desk.view.time(x)", x), under, delta=0.02)
        start = page.evaluate("desk.view.start")
        page.mouse.wheel(0, 240)
        page.wait_for_function("s => desk.view.start > s", arg=start)
        page.keyboard.press("w")
        self.assertEqual(page.evaluate("desk.view.start"), 0)

    def test_single_samples_show_at_the_deepest_zoom(self):
        page = self.page
        page.evaluate("desk.view.set(1.0, 1 / 24)")
        quiet(page)
        self.assertLess(page.evaluate("desk.view.span * desk.facts.rate"), 50)
        page.wait_for_function(
            """() => { const c = desk.canvas.lanes, d = c.getContext('2d').getImageData(0, 0, c.width, desk.laneHeight).data;
            let n = 0; for (let i = 0; i < d.length; i += 4) if (d[i] < 120 && d[i + 2] > 90) n++; return n > 300; }"""
        )
        page.keyboard.press("w")

    def test_arrows_walk_beats_and_commas_nudge(self):
        page = self.page
        page.keyboard.press("w")
        page.keyboard.press("Home")
        for _ in range(4):
            page.keyboard.press("Shift+ArrowRight")
        place = page.evaluate("desk.grid.place(desk.selected)")
        self.assertEqual(page.evaluate("i => desk.grid.beat[i]", place), 1)
        time, here, step = page.evaluate("i => [desk.grid.time[i], desk.here, desk.step]", place)
        page.keyboard.press(".")
        page.keyboard.press(".")
        page.keyboard.press(">")
        page.wait_for_function("h => desk.here === h + 3", arg=here)
        self.assertAlmostEqual(page.evaluate("i => desk.grid.time[i]", place), time + 0.012, places=5)
        page.locator(".trackhead .flag.muted").first.click()
        page.locator("[data-pane=steps]").click()
        page.wait_for_selector(".steps [aria-current] >> text=muted")
        page.locator(f".steps ol [data-step='{step}']").click()
        page.wait_for_function("s => desk.step === s", arg=step)
        self.assertEqual(page.evaluate("i => desk.grid.time[i]", place), time)
        page.wait_for_function("!desk.facts.tracks[0].muted")
        page.keyboard.press("Escape")
        self.assertIsNone(page.evaluate("desk.selected"))

    def test_the_ends_of_the_music_are_dragged_by_their_tabs(self):
        page, ends = self.page, "desk.grid.ends[1]"
        page.keyboard.press("w")
        before, steps = page.evaluate(f"[desk.grid.length, {ends}]"), page.evaluate("desk.step")
        ruler = page.locator("#ruler").bounding_box()

        def pull(by: float) -> None:
            """Drag the tab of the end by so many seconds."""
            step, x = page.evaluate("desk.step"), ruler["x"] + page.evaluate(f"desk.view.x({ends})") + 13
            page.mouse.move(x, ruler["y"] + 28)
            page.mouse.down()
            # the tab's middle is 13 pixels beyond the end; the end goes to where the pointer is
            page.mouse.move(x - 13 + by / page.evaluate("desk.view.perPixel"), ruler["y"] + 28, steps=4)
            page.mouse.up()
            page.wait_for_function(f"desk.step !== {step}")
            settled(page)

        pull(-5.0)
        self.assertAlmostEqual(page.evaluate(ends), before[1] - 5, delta=0.02)
        apart = page.evaluate("desk.grid.time[9] - desk.grid.time[8]")
        self.assertEqual(page.evaluate("desk.grid.length"), before[0] - round(5 / apart))
        pull(+2.0)  # what it takes in again goes to the attacks
        self.assertEqual(page.evaluate("desk.grid.length"), before[0] - round(3 / apart))
        off = np.array(page.evaluate("desk.grid.time.slice(-5)")) - 1
        np.testing.assert_allclose(off, apart * np.round(off / apart), atol=0.004)
        for _ in range(2):
            page.keyboard.press("Control+z")
        page.wait_for_function(f"desk.step === {steps}")
        self.assertEqual(page.evaluate(f"[desk.grid.length, {ends}]"), before)

    def test_an_edit_made_in_another_window_is_not_overwritten(self):
        page, other = self.page, self.browser.page()
        other.goto(page.url)
        settled(other)
        length = other.evaluate("desk.grid.length")
        other.keyboard.press("d")
        other.wait_for_function("n => desk.grid.length > 1.8 * n", arg=length)
        page.evaluate("desk.editing.make({kind: 'half'})")  # on the map this window still shows, or shows by now
        page.wait_for_function("s => desk.step >= s", arg=other.evaluate("desk.step"))
        # refused, or made on the doubled map that the page had shown by then; never on the old one
        self.assertGreaterEqual(page.evaluate("desk.grid.length"), length - 1)
        other.close()
        page.reload()
        settled(page)

    def test_count_in_and_panels_and_help(self):
        page = self.page
        page.keyboard.press("n")
        self.assertEqual(page.evaluate("desk.player.bars"), 1)
        page.keyboard.press("n")
        page.keyboard.press("?")
        self.assertTrue(page.locator("#help").is_visible())
        self.assertGreater(page.locator("#keys dd").count(), 40)
        page.keyboard.press("Escape")
        for stage, words in (
            ("Guide", "kick"),
            ("Find", "Felt beats"),
            ("Gather", "44100 Hz"),
            ("Follow", "Count-in"),
            ("Deliver", "For the archive"),
            ("Files", "MIDI"),
        ):
            page.get_by_role("tab", name=stage).first.click()
            page.wait_for_selector(f"#panel >> text={words} >> visible=true")

    def test_an_answer_for_a_part_that_is_gone_is_dropped(self):
        """Stages are changed faster than panes that load themselves come."""
        answered = """async () => {
          const pane = document.createElement("div");
          pane.setAttribute("hx-get", `/sessions/${desk.facts.id}/panel/guide`);
          pane.setAttribute("hx-trigger", "renew");
          document.getElementById("panel").append(pane);
          htmx.process(pane);
          const answer = new Promise((done) => pane.addEventListener("htmx:beforeSwap", done));
          htmx.trigger(pane, "renew");
          pane.remove();
          await answer;
          await new Promise((done) => setTimeout(done, 50));
          return pane.isConnected;
        }"""
        self.assertFalse(self.page.evaluate(answered))
        self.assertEqual(self.browser.errors, [])

    def test_nothing_is_clipped_at_common_sizes(self):
        for width, height in ((1024, 700), (1280, 800), (1920, 1080)):
            self.page.set_viewport_size({"width": width, "height": height})
            quiet(self.page)
            over = self.page.evaluate(
                """() => [...document.querySelectorAll('.head > *, .player .group > *, .player > output, .trackhead > *')]
                .filter((e) => { const r = e.getBoundingClientRect(); return r.width && (r.right > innerWidth + 1 || r.bottom > innerHeight + 1); })
                .map((e) => e.outerHTML.slice(0, 80))"""
            )
            self.assertEqual(over, [], f"{width}x{height}")
            crowded = self.page.evaluate(
                """() => { const boxes = [...document.querySelectorAll('.player > *')].map((e) => e.getBoundingClientRect()).filter((r) => r.width);
                return boxes.some((r, i) => i && r.left < boxes[i - 1].right - 1); }"""
            )
            self.assertFalse(crowded, f"{width}x{height}")
        self.page.set_viewport_size({"width": 1280, "height": 800})
