"""Hands on the keyboard alone: every command has its key, says so, and the panels' fields are a key away."""

import re

import numpy as np

from tests.browser.studio import SharedDemoCase


class Keys(SharedDemoCase):
    def setUp(self):
        self.page = self.fresh()
        self.page.wait_for_selector("#panel [data-pane]")
        self.origin = self.page.evaluate("desk.step")

    def tearDown(self):
        self.page.evaluate("(step) => desk.editing.goTo(step)", self.origin)
        self.assertEqual(self.browser.errors, [])

    def write(self, key, text):
        """A key that leads into a field, what is written there, and Enter."""
        self.page.keyboard.press(key)
        self.page.wait_for_function("document.activeElement.matches('input')")
        self.page.keyboard.type(text)
        self.page.keyboard.press("Enter")

    def renew_panel(self):
        """Ask for the open panel anew and wait until it has come."""
        self.page.evaluate(
            """() => new Promise((done) => {
              document.body.addEventListener("htmx:afterSwap", (e) => e.target.id === "panel" && done());
              desk.panels.refresh(0);
            })"""
        )

    def test_no_key_means_two_things_and_every_button_tells_its_own(self):
        page = self.page
        commands = page.evaluate("Object.entries(desk.commands).map(([name, [keys]]) => [name, keys])")
        keys = [key for _, own in commands for key in own]
        self.assertEqual(len(keys), len(set(keys)))
        self.assertTrue(all(own for _, own in commands))
        page.evaluate("desk.select(desk.grid.index(20))")
        page.wait_for_selector("#bar-number", state="attached")
        page.wait_for_function("document.body.dataset.doubts")
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
        page.wait_for_function("document.body.dataset.doubts")
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

    def test_a_panel_that_comes_anew_leaves_the_focus_and_the_mouse_where_they_are(self):
        page = self.page
        page.evaluate("desk.panels.turn('stretch')")
        page.locator("[data-ratio='2:1']").focus()
        self.renew_panel()
        self.assertEqual(page.evaluate("document.activeElement.dataset.ratio"), "2:1")
        # a button that is pressed while the panel comes is the one that is let go
        box = page.locator("[data-ratio='2:1']").bounding_box()
        page.mouse.move(box["x"] + 4, box["y"] + 4)
        page.mouse.down()
        self.renew_panel()
        before = len(page.evaluate("(desk.before ?? desk.grid).time"))
        after = self.edited(page.mouse.up)
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

    def test_escape_leaves_a_field_and_the_letters_are_commands_again(self):
        page = self.page
        page.keyboard.press("Shift+N")
        page.wait_for_function("document.activeElement.id === 'n-bars'")
        page.keyboard.press("Escape")
        page.wait_for_function("!document.activeElement.matches('input')")
        page.keyboard.press("v")
        page.wait_for_function("desk.fold.shown")
        page.keyboard.press("v")

    def test_what_is_being_written_stays_when_the_panel_comes_anew(self):
        page = self.page
        page.keyboard.press("Shift+V")
        page.wait_for_function("document.activeElement.id === 'version'")
        page.keyboard.type("before the ")
        self.renew_panel()
        page.keyboard.type("tide")
        self.assertEqual(
            page.evaluate("[document.activeElement.id, document.activeElement.value]"), ["version", "before the tide"]
        )

    def test_taps_are_laid_by_enter_whatever_has_the_focus(self):
        page = self.page
        page.evaluate("desk.panels.turn('stretch')")
        goal = page.evaluate("desk.grid.time.slice(40, 48)")
        page.locator("[data-ratio='2:1']").focus()
        page.evaluate("(taps) => (desk.tapping.taps = taps)", [t + 0.04 for t in goal])
        before = len(page.evaluate("desk.grid.time"))
        after = self.edited(lambda: page.keyboard.press("Enter"))
        self.assertEqual(len(after), before)
        self.assertLess(np.median([np.abs(after - t).min() for t in goal]), 0.01)

    def test_the_bar_at_the_playhead_is_given_beats_and_a_meter(self):
        page = self.page
        page.evaluate("desk.select(null); desk.go(desk.grid.time[desk.grid.bar.indexOf(6)] + 0.01)")
        page.keyboard.press("Shift+Q")
        page.wait_for_function("document.activeElement.matches('[data-edit]')")
        page.keyboard.press("Tab")
        self.edited(lambda: page.keyboard.press("Enter"))  # the second choice: three beats
        self.assertEqual(page.evaluate("desk.grid.beat.filter((_, i) => desk.grid.bar[i] === 6).length"), 3)
        self.edited(lambda: page.keyboard.press("Control+z"))
        page.keyboard.press("Shift+M")
        page.wait_for_function("document.activeElement.id === 'bar-meter'")
        page.keyboard.type("6/8")
        self.edited(lambda: page.keyboard.press("Enter"))
        self.assertIn("6/8", page.evaluate("desk.grid.meters.map((m) => m.text)"))

    def test_a_chosen_beat_stays_chosen_when_bars_are_renumbered(self):
        page = self.page
        page.evaluate("desk.select(desk.grid.index(desk.grid.bar.indexOf(9)))")
        time = page.evaluate("desk.grid.time[desk.grid.place(desk.selected)]")
        for key in ("(", ")", "Shift+O"):
            self.edited(lambda key=key: page.keyboard.press(key))
            self.assertEqual(page.evaluate("desk.grid.time[desk.grid.place(desk.selected)]"), time)

    def test_without_a_chosen_beat_keys_act_at_the_playhead_and_without_a_stretch_the_page_says_what_to_do(self):
        page = self.page
        page.keyboard.press("Escape")
        beat = page.evaluate("desk.grid.index(60)")
        page.evaluate("desk.go(desk.grid.time[60] + 0.02)")
        before = page.evaluate("desk.grid.time")
        after = self.edited(lambda: page.keyboard.press(">"))
        self.assertAlmostEqual(after[60] - before[60], 0.01, places=6)
        self.assertIn(beat, page.evaluate("desk.grid.pins"))
        page.keyboard.press("Shift+S")
        page.wait_for_selector(".note.bad >> text=Choose a stretch first")

    def test_the_attack_at_the_playhead_is_given_its_bar(self):
        page = self.page
        at = page.evaluate("desk.grid.time[desk.grid.bar.indexOf(9)]")
        page.evaluate("(t) => { desk.select(null); desk.go(t + 0.01); }", at)
        page.keyboard.press("!")
        page.wait_for_function("document.activeElement.id === 'place-bar'")
        page.keyboard.type("8")
        self.edited(lambda: page.keyboard.press("Enter"))
        grid = page.evaluate("desk.grid")
        self.assertAlmostEqual(grid["time"][grid["bar"].index(8)], at, delta=0.03)
        self.assertEqual(grid["beat"][grid["bar"].index(8)], 1)

    def test_the_other_meaning_for_later_bar_lines_is_a_key_away(self):
        page = self.page
        page.evaluate("desk.select(desk.grid.index(41))")
        lines = "desk.grid.time.filter((_, i) => desk.grid.beat[i] === 1)"
        before = page.evaluate(lines)
        self.edited(lambda: page.keyboard.press("Delete"))
        stay = page.evaluate(lines)
        self.assertGreater(len(set(before) & set(stay)), len(before) - 3)
        page.keyboard.press("~")
        page.wait_for_function(f"(n) => {lines}.filter((t) => n.includes(t)).length < n.length - 3", arg=before)

    def test_one_undo_for_marks_levels_and_the_map(self):
        page = self.page
        page.evaluate("desk.setLoop([desk.grid.time[8], desk.grid.time[16]])")
        step = page.evaluate("desk.step")
        page.evaluate("desk.marks.set('section', 'Slack water')")
        page.wait_for_function(
            "(s) => desk.step !== s && desk.marks.sections.some((m) => m.name === 'Slack water')", arg=step
        )
        marked = page.evaluate("desk.step")
        page.locator(".flag.muted").first.click()
        page.wait_for_function("(s) => desk.step !== s", arg=marked)
        page.keyboard.press("Control+z")
        page.wait_for_function("!desk.facts.tracks[0].muted")
        page.keyboard.press("Control+z")
        page.wait_for_function("!desk.marks.sections.some((m) => m.name === 'Slack water')")
        page.keyboard.press("Control+y")
        page.wait_for_function("desk.marks.sections.some((m) => m.name === 'Slack water')")
