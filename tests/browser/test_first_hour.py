"""The first hour: the tour with its real edits, and help on each pane."""

from tests.browser.studio import SharedDemoCase, quiet
from tests.browser.test_access import AXE, VIOLATIONS


class FirstHour(SharedDemoCase):
    def tearDown(self):
        self.assertEqual(self.browser.errors, [])

    def step(self, number):
        self.page.get_by_text(f"Tour, {number} of 7").wait_for()

    def test_the_tour_makes_real_edits_that_undo_takes_back(self):
        page = self.page = self.fresh("/sessions/3/desk#tour")
        page.wait_for_function("document.body.dataset.doubts")
        self.step(1)
        page.evaluate(AXE)
        self.assertEqual(page.evaluate(VIOLATIONS), [])
        page.get_by_role("button", name="Next").click()
        self.step(2)
        page.locator("#play").click()
        self.step(3)
        page.locator("#play").click()
        page.locator("#doubts [data-doubt]").first.click()
        self.step(4)
        before = page.evaluate("desk.grid.time.slice()")
        # a line is dragged
        box = page.locator("#lanes").bounding_box()
        page.evaluate("desk.view.set(20, 400)")
        quiet(page)
        line = page.evaluate("desk.view.x(desk.grid.time[desk.grid.nearest(24)])")
        page.mouse.move(box["x"] + line, box["y"] + 60)
        page.mouse.down()
        page.mouse.move(box["x"] + line + 40, box["y"] + 60, steps=5)
        page.mouse.up()
        self.step(5)
        self.assertNotEqual(page.evaluate("desk.grid.time"), before)
        page.get_by_role("button", name="Undo", exact=True).click()
        self.step(6)
        self.assertEqual(page.evaluate("desk.grid.time"), before)
        page.get_by_role("button", name="Add", exact=True).click()
        self.step(7)
        self.assertEqual(page.evaluate("desk.facts.parts.length"), 1)
        page.get_by_role("button", name="Done").click()
        self.assertEqual(page.locator(".tour").count(), 0)
        self.edited(lambda: page.keyboard.press("Control+z"))

    def test_the_tour_is_left_by_a_key_and_begun_again_by_its_words(self):
        page = self.page = self.fresh("/sessions/3/desk#tour")
        self.step(1)
        page.keyboard.press("Escape")
        self.assertEqual(page.locator(".tour").count(), 0)
        page.keyboard.press("Control+/")
        page.keyboard.type("tour")
        page.keyboard.press("Enter")
        self.step(1)
        page.get_by_role("button", name="Leave the tour").click()
        self.assertEqual(page.locator(".tour").count(), 0)

    def test_help_opens_the_manual_where_the_pane_is_explained(self):
        page = self.page = self.fresh()
        page.get_by_role("tab", name="Stretch", exact=True).click()
        with page.context.expect_page() as opened:
            page.keyboard.press("F1")
        manual = opened.value
        manual.wait_for_load_state()
        self.assertTrue(manual.url.endswith("/manual/check#stretch"), manual.url)
        manual.get_by_role("heading", name="Stretch").wait_for()
        manual.evaluate(AXE)
        self.assertEqual(manual.evaluate(VIOLATIONS), [])
        manual.get_by_label("Search the manual").fill("latency")
        manual.keyboard.press("Enter")
        manual.get_by_role("link", name="Record", exact=True).click()
        manual.wait_for_url("**/manual/gather#record")
        self.assertTrue(manual.locator("img").first.evaluate("(e) => e.complete && e.naturalWidth > 600"))
        manual.close()
