"""Everything within reach: commands by their words, places as addresses, keys where fingers and screen readers want them."""

from tests.browser.studio import SharedDemoCase, quiet, settled


class Reach(SharedDemoCase):
    def setUp(self):
        self.page = self.fresh()
        self.origin = self.page.evaluate("desk.step")

    def tearDown(self):
        self.page.evaluate("(step) => desk.editing.goTo(step)", self.origin)
        self.assertEqual(self.browser.errors, [])

    def state(self):
        return self.page.evaluate("({ stage: desk.panels.stage, pane: desk.panels.pane, at: desk.player.seconds, "
                                  "start: desk.view.start, spp: desk.view.spp })")  # fmt: skip

    def test_a_command_is_found_by_its_words_and_done(self):
        page = self.page
        page.evaluate("desk.go(desk.grid.time[9])")
        page.keyboard.press("Control+/")
        page.keyboard.type("pin bea")
        self.assertEqual(page.locator("#command-list li").count(), 1)
        self.edited(lambda: page.keyboard.press("Enter"))
        self.assertFalse(page.locator("#command-search").is_visible())
        page.keyboard.press("Control+/")
        page.keyboard.press("ArrowDown")
        chosen = page.locator("#command-search input").get_attribute("aria-activedescendant")
        self.assertEqual(page.locator("#command-list [aria-selected=true]").get_attribute("id"), chosen)
        page.keyboard.type("xyzzy")
        self.assertTrue(page.get_by_text("No command has these words.").is_visible())
        page.keyboard.press("Escape")
        self.assertFalse(page.locator("#command-search").is_visible())

    def test_reload_and_back_and_links_lead_where_one_was(self):
        page = self.page
        page.get_by_role("tab", name="Deliver").click()
        page.evaluate("desk.view.set(20, 300); desk.go(21.5)")
        page.wait_for_function("location.hash.includes('stage=deliver') && location.hash.includes('at=21.5')")
        page.evaluate("desk.view.set(20, 300)")
        page.wait_for_function("location.hash.includes('from=20.000')")
        was = self.state()
        page.reload()
        settled(page)
        now = self.state()
        self.assertEqual((now["stage"], now["at"], now["start"]), (was["stage"], was["at"], was["start"]))
        self.assertAlmostEqual(now["spp"], was["spp"], delta=0.01)
        page.go_back()
        page.wait_for_function("desk.panels.stage === 'check'")
        page.goto(f"{self.studio.url}/sessions/3/desk#bar=9")
        page.reload()
        settled(page)
        self.assertAlmostEqual(self.state()["at"], page.evaluate("desk.grid.time[desk.grid.bar.indexOf(9)]"), 3)

    def test_single_keys_can_be_switched_off(self):
        page = self.page
        page.keyboard.press("?")
        page.locator("#single-keys").uncheck()
        page.keyboard.press("Escape")
        page.evaluate("desk.go(desk.grid.time[9])")
        page.keyboard.press("p")
        quiet(page)
        self.assertEqual(page.evaluate("desk.step"), self.origin)
        page.keyboard.press("Home")
        self.assertEqual(page.evaluate("desk.player.seconds"), 0)
        page.reload()
        settled(page)
        self.assertFalse(page.locator("#single-keys").is_checked())

    def test_a_key_is_changed_kept_and_given_back(self):
        page = self.page
        page.keyboard.press("?")
        page.get_by_title("Change the key of “Next doubt”").click()
        page.keyboard.press("Control+Shift+J")
        self.assertIn("Ctrl Shift J: “Next doubt”.", page.locator("#keys-told").inner_text())
        page.get_by_title("Change the key of “Previous doubt”").click()
        page.keyboard.press("x")
        self.assertIn("It was “Dismiss the doubt”, which has no key now", page.locator("#keys-told").inner_text())
        page.get_by_title("Change the key of “Zoom in”").first.click()
        page.keyboard.press("Tab")
        self.assertEqual(page.locator("#keys-told").inner_text(), "")
        page.keyboard.press("Escape")
        page.reload()
        settled(page)
        page.wait_for_function("desk.doubts.list.length")
        page.keyboard.press("j")
        self.assertEqual(page.evaluate("desk.doubts.open"), -1)
        page.keyboard.press("Control+Shift+J")
        page.wait_for_function("desk.doubts.now")
        page.keyboard.press("?")
        page.get_by_role("button", name="All keys as they come").click()
        page.keyboard.press("Escape")
        self.assertEqual(page.evaluate("localStorage.getItem('own-keys')"), None)
        page.evaluate("desk.doubts.open = -1")
        page.keyboard.press("j")
        page.wait_for_function("desk.doubts.now")

    def test_names_are_changed_where_they_stand(self):
        page = self.page
        was = page.locator("#title").inner_text()
        page.locator("#title").click()
        page.keyboard.type("Lanterns")
        page.keyboard.press("Escape")
        self.assertEqual(page.locator("#title").inner_text(), was)
        page.locator("#title").click()
        page.keyboard.type("Lanterns")
        page.keyboard.press("Enter")
        page.wait_for_function("document.getElementById('title').textContent === 'Lanterns'")
        name = page.locator(".trackhead .name").first
        before = name.inner_text()
        name.focus()
        page.keyboard.press("Enter")
        page.get_by_label(f"Name of {before.strip()}").fill("Boots <b>")
        page.keyboard.press("Enter")
        page.wait_for_function("desk.facts.tracks[0].name === 'Boots <b>'")
        quiet(page)
        self.assertEqual(page.locator(".trackhead .name").first.inner_text().strip(), "Boots <b>")
        page.reload()
        settled(page)
        self.assertEqual(page.locator("#title").inner_text(), "Lanterns")
        page.keyboard.press("Control+z")
        page.wait_for_function("(name) => desk.facts.tracks[0].name.trim() === name", arg=before.strip())
        page.keyboard.press("Control+z")
        page.wait_for_function("(title) => document.getElementById('title').textContent === title", arg=was)
        page.reload()
        settled(page)
        self.assertEqual(page.locator("#title").inner_text(), was)
        self.assertEqual(page.locator(".trackhead .name").first.inner_text(), before)

    def test_space_presses_what_the_keyboard_reached_and_plays_after_a_click(self):
        page = self.page
        loop = page.get_by_role("button", name="Count-in")
        loop.click()
        pressed = loop.get_attribute("aria-pressed")
        page.keyboard.press("Space")
        page.wait_for_function("desk.player.playing")
        page.keyboard.press("Space")
        page.wait_for_function("!desk.player.playing")
        self.assertEqual(loop.get_attribute("aria-pressed"), pressed)
        loop.evaluate("(b) => b.blur()")
        page.keyboard.press("Shift")  # the last thing touched is the keyboard
        loop.focus()
        page.keyboard.press("Space")
        page.wait_for_function("(was) => document.activeElement.getAttribute('aria-pressed') !== was", arg=pressed)
        self.assertFalse(page.evaluate("desk.player.playing"))

    def test_arrow_keys_walk_through_tabs(self):
        page = self.page
        page.keyboard.press("Shift")
        page.get_by_role("tab", name="Check", exact=True).focus()
        page.keyboard.press("ArrowRight")
        page.wait_for_function("desk.panels.stage === 'follow'")
        page.keyboard.press("ArrowLeft")
        page.wait_for_function("desk.panels.stage === 'check'")
        self.assertEqual(page.evaluate("document.activeElement.dataset.stage"), "check")

    def test_the_bars_are_corrected_in_a_table_by_keyboard_alone(self):
        page = self.page
        page.keyboard.press("Control+b")
        field = page.locator("#at-5")
        was = float(field.input_value())
        field.focus()
        page.keyboard.press("Control+a")
        page.keyboard.type(f"{was + 0.01:.4f}")
        page.keyboard.press("Tab")
        page.get_by_text("Moved bar 5").wait_for()
        self.assertEqual(page.evaluate("document.activeElement.id"), "meter-5")
        self.assertTrue(page.locator("#pin-5").is_checked())
        page.locator("#bar-5 th a").click()
        settled(page)
        self.assertAlmostEqual(self.state()["at"], was + 0.01, delta=0.0011)

    def test_who_types_faster_than_the_table_answers_loses_nothing(self):
        """The answer to the first change comes once the second waits and a third is being typed."""
        page, held = self.page, []
        page.keyboard.press("Control+b")
        times = [float(page.locator(f"#at-{bar}").input_value()) + 0.01 for bar in (5, 6, 7)]
        page.route("**/bars", lambda route: held.append(route), times=1)
        for bar, time in zip((5, 6), times, strict=False):
            page.locator(f"#at-{bar}").fill(f"{time:.4f}")
            page.keyboard.press("Tab")
        page.locator("#at-7").focus()
        page.keyboard.press("Control+a")
        page.keyboard.type(f"{times[2]:.4f}"[:4])
        self.assertEqual(len(held), 1)
        held[0].continue_()
        page.get_by_text("Moved bar 6").wait_for()
        page.keyboard.type(f"{times[2]:.4f}"[4:])
        page.keyboard.press("Tab")
        page.get_by_text("Moved bar 7").wait_for()
        page.reload()
        for bar, time in zip((5, 6, 7), times, strict=True):
            self.assertAlmostEqual(float(page.locator(f"#at-{bar}").input_value()), time, delta=0.0011)
        page.locator("#to-5").click()
        settled(page)
