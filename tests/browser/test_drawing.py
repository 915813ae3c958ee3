"""What is drawn while scrolling: lanes under a canvas that stays, the overview's frame, what a preview tints."""

import json

from tests.browser.studio import SharedDemoCase, quiet

#: How many pixels of a canvas differ from its paper, in a band of it (CSS pixels).
INKED = """([id, left, right]) => { const c = document.getElementById(id);
  const d = c.getContext('2d').getImageData(left, 0, right - left, c.height).data;
  let n = 0; for (let i = 0; i < d.length; i += 4) if (d[i] < 200 || d[i + 2] < 190) n++; return n; }"""


class Drawing(SharedDemoCase):
    def open(self):
        self.page = self.fresh()
        quiet(self.page)
        return self.page

    def tearDown(self):
        if self.page is not self.browser.one:
            self.page.close()
        self.assertEqual(self.browser.errors, [])

    def test_a_line_is_taken_in_the_lane_under_the_pointer_also_when_scrolled(self):
        page = self.open()
        page.evaluate("desk.setLaneHeight(1.7)")
        quiet(page)
        room, lane = page.evaluate("[desk.scroller.clientHeight, desk.laneHeight]")
        self.assertLess(room, 5 * lane)
        self.assertEqual(page.evaluate("desk.canvas.lanes.clientHeight"), room)
        page.evaluate("(y) => { desk.scroller.scrollTop = y; }", 2 * lane)
        page.evaluate("desk.view.set(20, 512)")
        quiet(page)
        scrolled = page.evaluate("desk.scroller.scrollTop")
        box = page.locator("#lanes").bounding_box()
        self.assertAlmostEqual(box["y"], page.locator("#scroller").bounding_box()["y"], delta=1)
        asked = []
        page.on("request", lambda r: r.url.endswith("/edit") and asked.append(json.loads(r.post_data)))
        x = page.evaluate("desk.view.x(desk.grid.time[desk.grid.at(22)])")
        page.mouse.move(box["x"] + x, box["y"] + 10)
        page.mouse.down()
        page.mouse.move(box["x"] + x + 12, box["y"] + 10, steps=3)
        page.wait_for_function("desk.before !== null")
        page.keyboard.press("Escape")
        page.mouse.up()
        lanes = page.evaluate("desk.facts.tracks.map((t) => t.id)")
        self.assertEqual(asked[0]["track"], lanes[int((scrolled + 10) // lane)])

    def test_the_overview_is_framed_and_its_picture_waits_for_changes(self):
        page = self.open()
        page.evaluate("desk.view.set(30, 1024)")
        page.wait_for_function("desk.overview.shows?.length > 5")
        self.assertTrue(page.evaluate("desk.overview.shows.includes(desk.overview.tracks)"))
        page.evaluate("globalThis.kept = desk.overview.shows; desk.view.set(40, 1024)")
        quiet(page)
        self.assertTrue(page.evaluate("desk.overview.shows === kept"))
        seen, whole = (page.locator(s).bounding_box() for s in ("#seen", "#overview"))
        scale = whole["width"] / page.evaluate("desk.facts.seconds")
        self.assertAlmostEqual(seen["x"] - whole["x"], page.evaluate("desk.view.start") * scale, delta=1)
        self.assertAlmostEqual(seen["width"], page.evaluate("desk.view.span") * scale, delta=1.5)
        page.keyboard.press("l")
        quiet(page)
        self.assertFalse(page.evaluate("desk.overview.shows === kept"))

    def test_the_overview_is_drawn_until_its_waveforms_are_complete(self):
        page = self.page = self.browser.page(1280, 800)
        late = []
        held = True
        page.route("**/peaks/**", lambda route: late.append(route) if held else route.continue_())
        page.goto(f"{self.studio.url}/sessions/3/desk")
        page.wait_for_selector("body[data-ready=yes]")  # it comes to rest with its waveforms only
        page.wait_for_function("desk.drawn > 0")
        self.assertFalse(page.evaluate("!!desk.overview.shows"))
        blank = page.evaluate(INKED, ["overview", 0, 800])
        held = False
        for route in late:
            route.continue_()
        page.wait_for_function("desk.overview.shows?.includes(desk.overview.tracks)")
        self.assertGreater(page.evaluate(INKED, ["overview", 0, 800]), blank + 1000)

    def inked(self):
        """Dark pixels of the lanes once they stay the same: waveforms come strip by strip."""
        seen = []
        for _ in range(100):
            quiet(self.page)
            seen.append(self.page.evaluate(INKED, ["lanes", 0, 800]))
            if len(seen) > 3 and len(set(seen[-4:])) == 1:
                return seen[-1]
        return self.fail(f"the lanes do not come to rest: {seen}")

    def test_attack_marks_come_and_go_with_their_key_and_their_number(self):
        page = self.open()
        page.evaluate("desk.view.set(20, 512)")
        quiet(page)
        with_marks = self.inked()
        page.keyboard.press("#")
        quiet(page)
        without = self.inked()
        self.assertGreater(with_marks, without + 500)
        page.keyboard.press("#")
        page.locator(".ticks").first.fill("0.05")
        quiet(page)
        self.assertLess(self.inked(), with_marks)

    def test_a_preview_tints_what_moves_and_no_more(self):
        page = self.open()
        page.evaluate("desk.view.fit()")
        beat = page.evaluate("desk.grid.index(desk.grid.at(50))")
        page.evaluate("(beat) => desk.editing.glance({ kind: 'nudge', beat, by: 0.05 })", beat)
        page.wait_for_function("desk.before !== null")
        quiet(page)
        tinted = page.evaluate(
            """() => { const c = desk.canvas.contour, row = c.getContext('2d').getImageData(0, c.height - 2, c.width, 1).data;
            const xs = []; for (let x = 0; x < c.width; x++) if (row[4 * x + 2] < 228 && row[4 * x] > 215) xs.push(x); return [xs[0], xs.at(-1)]; }"""
        )
        times = page.evaluate("[50 - 1.3, 50 + 1.9].map((t) => desk.view.x(t))")
        self.assertGreater(tinted[0], times[0])
        self.assertLess(tinted[1], times[1])
        page.evaluate("desk.editing.endGlance()")
