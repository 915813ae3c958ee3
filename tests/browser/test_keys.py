"""Hands on the keyboard alone: every command has its key, says so, and the panels' fields are a key away."""

import re
import tempfile
from pathlib import Path
from unittest import TestCase

import numpy as np

from tests.browser.studio import Browser, Studio, settled


class Keys(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        cls.studio = Studio(Path(cls.folder.name), demo=True).start()
        cls.browser = Browser()

    @classmethod
    def tearDownClass(cls):
        cls.browser.close()
        cls.studio.stop()
        cls.folder.cleanup()

    def setUp(self):
        self.page = self.browser.page()
        self.page.goto(f"{self.studio.url}/sessions/3/desk")
        settled(self.page)
        self.page.wait_for_selector("#panel [data-pane]")
        self.origin = self.page.evaluate("desk.step")

    def tearDown(self):
        self.page.evaluate("(step) => desk.editing.goTo(step)", self.origin)
        self.page.close()
        self.assertEqual(self.browser.errors, [])

    def edited(self, act):
        step = self.page.evaluate("desk.step")
        act()
        self.page.wait_for_function(f"desk.step !== {step}")
        return np.array(self.page.evaluate("desk.grid.time"))

    def write(self, key, text):
        """A key that leads into a field, what is written there, and Enter."""
        self.page.keyboard.press(key)
        self.page.wait_for_function("document.activeElement.matches('input')")
        self.page.keyboard.type(text)
        self.page.keyboard.press("Enter")

    def test_no_key_means_two_things_and_every_button_tells_its_own(self):
        page = self.page
        commands = page.evaluate("Object.entries(desk.commands).map(([name, [keys]]) => [name, keys])")
        keys = [key for _, own in commands for key in own]
        self.assertEqual(len(keys), len(set(keys)))
        self.assertTrue(all(own for _, own in commands))
        page.evaluate("desk.select(desk.grid.index(20))")
        page.wait_for_selector("#bar-number", state="attached")
        page.wait_for_function("document.body.dataset.doubts", timeout=60_000)
        shown = page.evaluate("[...document.querySelectorAll('[data-do]')].map((b) => [b.dataset.do, b.title])")
        self.assertGreater(len(shown), 40)
        names = dict(commands)
        for name, title in shown:
            self.assertIn(name, names, title)
            if not title:  # in the help itself, where the key stands beside it
                continue
            told = re.search(r"\(\s*(.+?)\s*\)$", title)
            self.assertIsNotNone(told, f"{name}: “{title}”")
        ratios = page.evaluate("[...document.querySelectorAll('[data-ratio], [data-mark]')].map((b) => b.title)")
        self.assertTrue(all(re.search(r"\(.+\)$", title) for title in ratios), ratios)

    def test_a_stretch_of_bars_is_chosen_and_counted_anew(self):
        page = self.page
        page.evaluate("desk.go(desk.grid.time[desk.grid.bar.indexOf(20)])")
        for _ in range(4):
            page.keyboard.press("Control+ArrowRight")
        grid = page.evaluate("desk.grid")
        self.assertEqual(page.evaluate("desk.loop"), [grid["time"][grid["bar"].index(b)] for b in (20, 24)])
        page.keyboard.press("Control+ArrowLeft")
        start, end = page.evaluate("desk.loop")
        self.assertEqual(end, grid["time"][grid["bar"].index(23)])
        before = np.array(grid["time"])
        after = self.edited(lambda: page.keyboard.press("7"))  # 3:4
        inside = (before >= start - 1e-9) & (before < end - 1e-9)
        self.assertEqual(((after >= start - 1e-9) & (after < end - 1e-9)).sum(), round(inside.sum() * 3 / 4))
        outside = (after < start - 1e-9) | (after > end + 1e-9)
        self.assertTrue(np.isin(after[outside], before).all())

    def test_fields_are_a_key_away_and_give_the_keys_back(self):
        page = self.page
        page.evaluate("desk.go(desk.grid.time[desk.grid.bar.indexOf(10)])")
        self.edited(lambda: self.write("Shift+R", "5"))
        self.assertEqual(page.evaluate("desk.grid.bar[desk.grid.place(desk.selected)]"), 5)
        # the letters are commands again, no text
        page.wait_for_function("!document.activeElement.matches('input')")
        self.edited(lambda: page.keyboard.press("Control+z"))
        page.keyboard.press("Escape")
        page.evaluate("desk.go(desk.grid.time[desk.grid.bar.indexOf(12)])")
        page.keyboard.press("Shift+L")
        self.edited(lambda: self.write("Shift+N", "4"))
        page.keyboard.press("Shift+A")
        page.wait_for_function("document.activeElement.id === 'section-name'")
        page.keyboard.type("Slack water")
        page.keyboard.press("Enter")
        page.wait_for_function("desk.marks.sections.some((m) => m.name === 'Slack water')")

    def test_a_button_shows_what_its_edit_would_do_and_takes_it_back(self):
        page = self.page
        page.evaluate("desk.panels.turn('stretch')")
        before = page.evaluate("desk.grid.time")
        for button in ("[data-do=steady]", "[data-do=half-later]", "[data-ratio='2:1']"):
            page.locator(button).hover()
            page.wait_for_function("desk.before !== null")
            self.assertNotEqual(page.evaluate("desk.grid.time"), before)
            page.mouse.move(500, 500)
            page.wait_for_function("desk.before === null")
            self.assertEqual(page.evaluate("desk.grid.time"), before)

    def test_a_doubt_is_pinned_as_it_is_by_its_button(self):
        page = self.page
        page.wait_for_function("document.body.dataset.doubts", timeout=60_000)
        page.keyboard.press("j")
        self.edited(lambda: page.locator("[data-doubt][aria-current] [data-do=pin]").click())
        self.assertGreater(len(page.evaluate("desk.grid.pins")), 0)

    def test_a_focused_button_takes_enter(self):
        page = self.page
        page.evaluate("desk.panels.turn('stretch')")
        page.locator("[data-ratio='2:1']").focus()
        before = len(page.evaluate("desk.grid.time"))
        after = self.edited(lambda: page.keyboard.press("Enter"))
        self.assertAlmostEqual(len(after), 2 * before, delta=2)

    def test_the_fold_is_ordered_and_turned_to_another_track_by_key(self):
        page = self.page
        page.keyboard.press("v")
        page.wait_for_function("desk.fold.data")
        page.keyboard.press("Shift+I")
        off = page.evaluate("desk.fold.rows.map((r) => desk.fold.data.off[r])")
        self.assertEqual(off, sorted(off, reverse=True))
        track = page.evaluate("desk.fold.track.id")
        page.keyboard.press("Shift+ArrowDown")
        page.wait_for_function(f"desk.fold.track.id !== {track}")
        page.keyboard.press("v")

    def test_a_version_is_named_and_compared_without_the_mouse(self):
        page = self.page
        self.write("Shift+V", "as found")
        page.wait_for_selector(".versions")
        self.edited(lambda: page.keyboard.press("9"))
        page.wait_for_selector(".versions li:not([aria-current])", state="attached")
        page.keyboard.press("Shift+W")
        page.wait_for_function("desk.compare.other")
        self.assertEqual(page.evaluate("desk.compare.other.name"), "as found")
        self.assertGreater(max(map(abs, page.evaluate("desk.compare.other.ms"))), 200)
        page.keyboard.press("Shift+W")
        page.wait_for_function("!desk.compare.other")
