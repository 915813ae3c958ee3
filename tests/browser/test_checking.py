"""Checking by hand in the real page: doubts by key, the fold, taps, locks, versions, the contour."""

import numpy as np

from core.demo import boathouse
from tests.browser.studio import SharedDemoCase, quiet


class Checking(SharedDemoCase):
    def setUp(self):
        self.page = self.fresh()
        self.asked()
        self.origin = self.page.evaluate("desk.step")

    def tearDown(self):
        self.page.evaluate("(step) => desk.editing.goTo(step)", self.origin)
        self.assertEqual(self.browser.errors, [])

    def asked(self):
        """The doubts are those of the map shown."""
        self.page.wait_for_function("document.body.dataset.doubts?.startsWith(desk.step + ':')")

    @property
    def times(self):
        return np.array(self.page.evaluate("desk.grid.time"))

    def test_doubts_are_walked_heard_and_dismissed_by_key(self):
        count = self.page.evaluate("desk.doubts.list.length")
        self.assertGreater(count, 1)
        self.page.keyboard.press("j")
        first = self.page.locator("[data-doubt][aria-current] .where").inner_text()
        self.page.keyboard.press("j")
        self.page.keyboard.press("k")
        self.assertEqual(self.page.locator("[data-doubt][aria-current] .where").inner_text(), first)
        self.page.keyboard.press("g")
        self.page.wait_for_function("desk.player.playing")
        start = self.page.evaluate("desk.doubts.now.start")
        self.assertLess(self.page.evaluate("desk.player.seconds"), start)
        self.page.keyboard.press("Space")
        self.page.keyboard.press("x")
        self.page.wait_for_function(f"desk.doubts.list.length === {count - 1}")
        before = self.page.evaluate("desk.grid.pins.length")
        self.edited(lambda: self.page.keyboard.press("p"))  # the next one is right as it is
        self.assertGreater(self.page.evaluate("desk.grid.pins.length"), before)
        self.asked()
        self.assertLessEqual(self.page.evaluate("desk.doubts.list.length"), count - 2)

    def test_a_remedy_shows_what_it_would_do_while_the_pointer_rests_on_it(self):
        self.edited(lambda: self.page.keyboard.press("d"))  # at double tempo half is a remedy that fits better
        before = self.times
        step = self.page.evaluate("desk.step")
        self.page.wait_for_function("s => document.body.dataset.doubts?.startsWith(`${s}:`)", arg=step)
        self.page.locator("[data-remedy]").first.hover()
        self.page.wait_for_function("desk.before !== null")
        self.page.mouse.move(400, 500)
        self.page.wait_for_function("desk.before === null")
        np.testing.assert_array_equal(self.times, before)

    def test_an_attack_is_dragged_into_its_column_in_the_fold(self):
        beat = self.page.evaluate("desk.grid.index(desk.grid.bar.indexOf(5)) + 1")
        spoil = {"kind": "nudge", "beat": beat, "by": 0.09}
        right = self.times
        self.page.evaluate("(edit) => desk.editing.make(edit)", spoil)
        self.page.keyboard.press("v")
        self.page.wait_for_function("desk.fold.data && desk.fold.shown")
        quiet(self.page)
        found = self.page.evaluate(
            """(t) => { const f = desk.fold, d = f.data;
            const row = d.bars.indexOf(5); let best = -1;
            d.seconds.forEach((s, i) => { if (d.row[i] === row && (best < 0 || Math.abs(s - t) < Math.abs(d.seconds[best] - t))) best = i; });
            const box = f.canvas.getBoundingClientRect();
            const w = (f.canvas.clientWidth - 124) / f.widest;
            return [box.left + 64 + d.place[best] * w, box.top + f.y(f.rows.indexOf(row)) + f.row / 2, box.left + 64 + w, d.seconds[best]]; }""",
            float(right[self.page.evaluate(f"desk.grid.place({beat})")]),
        )
        x, y, to, seconds = found

        def drag():
            self.page.mouse.move(x, y)
            self.page.mouse.down()
            self.page.mouse.move((x + to) / 2, y)
            self.page.mouse.move(to, y)
            self.page.mouse.up()

        after = self.edited(drag)
        self.assertAlmostEqual(after[self.page.evaluate(f"desk.grid.place({beat})")], seconds, places=5)
        self.page.keyboard.press("ArrowDown")
        self.page.keyboard.press("ArrowDown")
        self.assertIsNotNone(self.page.evaluate("desk.loop"))
        self.page.keyboard.press("v")
        self.page.keyboard.press("l")

    def test_a_press_in_the_fold_plays_the_bar_in_a_loop(self):
        self.page.keyboard.press("v")
        self.page.wait_for_function("desk.fold.data && desk.fold.shown")
        box = self.page.locator("#fold canvas").bounding_box()
        self.page.mouse.click(box["x"] + 64 + 30, box["y"] + 24 + 4 * 18 + 9)
        self.page.wait_for_function("desk.player.playing && desk.loop")
        bar = self.page.evaluate("desk.fold.current")
        a, b = self.page.evaluate("desk.loop")
        self.assertEqual(bar, self.page.evaluate("t => desk.grid.bar[desk.grid.nearest(t)]", a))
        self.assertLess(b - a, 4)

    def test_tapping_along_lays_beats_on_attacks(self):
        """Taps of a hand that is 40 ms late, pressed while the page plays."""
        truth = boathouse.truth().beats()
        self.page.evaluate("desk.player.seek(20)")
        self.page.keyboard.press("t")
        self.page.wait_for_function("desk.player.playing && desk.player.seconds > 20.2")
        goal = truth.seconds[truth.seconds > 21][:8].tolist()
        # pressing exactly on time is not what is tested: the moments are put where a hand would have put them
        self.page.evaluate("(taps) => (desk.tapping.taps = taps)", [t + 0.04 for t in goal])
        after = self.edited(lambda: self.page.keyboard.press("Enter"))
        off = [np.abs(after - t).min() for t in goal]
        self.assertLess(np.median(off), 0.008)
        self.assertFalse(self.page.evaluate("desk.player.playing"))

    def test_a_locked_stretch_refuses_and_says_so(self):
        self.page.evaluate("desk.setLoop([20, 30])")
        self.page.keyboard.press("Shift+P")
        self.page.wait_for_function("desk.marks.list.length > 0")
        self.page.evaluate("desk.setLoop(null)")
        before = self.times
        self.page.keyboard.press("d")
        self.page.wait_for_selector("#notes >> text=locked")
        np.testing.assert_array_equal(self.times, before)
        self.page.locator("[data-pane=marks]").click()
        self.page.locator("#marks .quiet").first.click()
        self.page.wait_for_function("desk.marks.list.length === 0")
        self.edited(lambda: self.page.keyboard.press("d"))

    def test_a_stretch_becomes_one_held_beat(self):
        page, before = self.page, self.times
        page.evaluate("desk.setLoop([desk.grid.time[40], desk.grid.time[43]])")
        page.locator("[data-pane=marks]").click()
        hold = page.get_by_role("button", name="Hold", exact=True)
        hold.hover()  # the map as it would be is shown, and nothing has happened yet
        page.wait_for_function("(had) => desk.grid.length < had", arg=len(before))
        page.locator("#lanes").hover()
        page.wait_for_function("(had) => desk.grid.length === had", arg=len(before))
        after = self.edited(hold.click)
        np.testing.assert_array_equal(after, np.delete(before, [41, 42]))
        page.wait_for_selector("#marks >> text=A held beat in bar")
        page.evaluate("desk.setLoop(null)")
        page.evaluate("(t) => desk.go(t)", float(before[41:43].mean()))
        page.keyboard.press("i")
        page.wait_for_selector("#notes >> text=A held beat in bar")
        np.testing.assert_array_equal(self.times, after)

    def test_a_version_is_kept_compared_and_gone_back_to(self):
        before = self.times
        self.page.locator("[data-pane=steps]").click()
        self.page.fill("#version", "Trusted")
        self.page.keyboard.press("Enter")
        self.page.wait_for_selector(".versions >> text=Trusted")
        self.page.locator("body").press("Escape")
        self.edited(lambda: self.page.evaluate("desk.editing.make({kind: 'shift', by: 0.02})"))
        self.page.locator(".versions [data-compare]").click()
        self.page.wait_for_selector("#compared >> text=20 ms at most")
        self.page.locator("#lanes").hover()
        self.page.keyboard.press("a")
        self.assertTrue(self.page.evaluate("desk.compare.clicksOther"))
        after = self.edited(lambda: self.page.locator(".versions >> text=Trusted").click())
        np.testing.assert_array_equal(after, before)

    def test_the_playhead_steps_from_attack_to_attack(self):
        self.page.evaluate("desk.player.seek(20)")
        quiet(self.page)
        places = []
        for _ in range(4):
            self.page.keyboard.press("'")
            places.append(self.page.evaluate("desk.player.at"))
        self.assertEqual(places, sorted(set(places)))
        attacks = np.concatenate(
            [np.array(d["seconds"]) for d in self.page.evaluate("[...desk.attacks.found.values()]")]
        )
        rate = self.page.evaluate("desk.facts.rate")
        for at in places:  # on the sample nearest to an attack
            self.assertLessEqual(np.abs(attacks * rate - at).min(), 0.51)

    def test_a_dot_of_the_contour_is_dragged_to_another_tempo(self):
        self.page.evaluate("desk.view.set(30, 700)")
        quiet(self.page)
        box = self.page.locator("#contour").bounding_box()
        x, y = self.page.evaluate(
            "(() => { const g = desk.grid, i = g.at(36); return [desk.view.x((g.time[i] + g.end(i)) / 2), desk.contourScale.y(g.bpm[i])]; })()"
        )
        before = self.page.evaluate("desk.grid.bpm[desk.grid.at(36)]")

        def drag():
            self.page.mouse.move(box["x"] + x, box["y"] + y)
            self.page.mouse.down()
            self.page.mouse.move(box["x"] + x, box["y"] + y - 8)
            self.page.mouse.move(box["x"] + x, box["y"] + y - 12)
            self.page.mouse.up()

        self.edited(drag)
        self.assertGreater(self.page.evaluate("desk.grid.bpm[desk.grid.at(36)]"), before + 1)

    def test_a_stretch_is_counted_again_thinned_and_described(self):
        page = self.page
        page.evaluate("desk.setLoop([desk.grid.time[40], desk.grid.time[56]])")
        page.locator("[data-pane=stretch]").click()
        self.assertIn("16 beats", page.locator("#stretch-facts").inner_text())
        before = self.times
        after = self.edited(lambda: page.locator("[data-ratio='2:1']").click())
        np.testing.assert_array_equal(after[:41], before[:41])
        np.testing.assert_array_equal(after[72:], before[56:])
        page.evaluate("desk.setLoop(null)")
        quiet(page)
        # a preview of what was there before may still be on its way
        with page.expect_response(lambda r: '"within":0.02' in (r.request.post_data or "")) as preview:
            page.locator("#within").fill("20")
        told = preview.value.json()["name"].split(": ")[-1]
        page.wait_for_function("told => document.getElementById('thin-told').textContent === told", arg=told)
        self.assertRegex(told, r"^\d+ points, [\d.]+ ms off at most$")
        thinned = self.edited(lambda: page.keyboard.press("Shift+T"))
        self.assertEqual(len(thinned), len(after))
        self.assertLessEqual(np.abs(thinned - after).max(), 0.0201)
        page.wait_for_function(
            "t => document.querySelector('.steps [aria-current] button').title.includes(t)", arg=told
        )

    def test_listening_aids_by_key(self):
        page = self.page
        page.evaluate("desk.player.seek(20)")
        page.keyboard.press("Shift+L")
        a, b = page.evaluate("desk.loop")
        bars = page.evaluate(
            "([a, b]) => desk.grid.bar[desk.grid.nearest(b)] - desk.grid.bar[desk.grid.nearest(a)]", [a, b]
        )
        self.assertEqual(bars, 2)
        page.keyboard.press("l")
        self.assertIsNone(page.evaluate("desk.loop"))
        for key, shown in (
            ("q", "95"),
            ("q", "90"),
            ("Shift+U", "95"),
            *[("q", str(p)) for p in range(90, 45, -5)],
            ("q", "100"),
        ):
            page.keyboard.press(key)
            self.assertEqual(page.locator("#pace").input_value(), shown)
            self.assertAlmostEqual(page.evaluate("desk.player.pace"), int(shown) / 100)
        page.keyboard.press("Shift+C")
        self.assertTrue(page.evaluate("desk.player.ears"))
        page.keyboard.press("Shift+C")
        page.keyboard.press("m")
        middle = page.evaluate("desk.player.seconds")
        self.assertAlmostEqual(middle, self.times[len(self.times) // 2], delta=0.001)
        self.assertRegex(page.locator("#distance").inner_text(), r"^([+-]?\d+ ms|–)$")

    def test_attack_marks_keep_their_sensitivity_when_tracks_are_asked_for_anew(self):
        page = self.page
        slider = page.locator(".ticks").first
        slider.fill("0.2")
        page.evaluate("fetch(`/sessions/${desk.facts.id}/facts`).then((r) => r.json()).then((f) => desk.setFacts(f))")
        quiet(page)
        self.assertEqual(page.locator(".ticks").first.input_value(), "0.2")
        self.assertAlmostEqual(page.evaluate("desk.attacks.least(desk.facts.tracks[0])"), 0.8)
        page.locator(".ticks").first.fill("0.75")

    def test_a_section_is_added_renamed_and_jumped_to(self):
        page = self.page
        page.evaluate("desk.setLoop([desk.grid.time[80], desk.grid.time[96]])")
        page.locator("[data-pane=marks]").click()
        page.fill("#section-name", "Ebb")
        page.keyboard.press("Enter")
        page.wait_for_function("desk.marks.sections.length === 1")
        name = page.locator("#marks input")
        name.fill("Flood")
        # list and panel come anew while the name is written
        with page.expect_response("**/marks"), page.expect_response("**/panel/**"):
            page.evaluate("desk.marks.ask(); desk.panels.refresh(0)")
        quiet(page)
        self.assertEqual(name.input_value(), "Flood")
        self.assertTrue(page.evaluate("document.activeElement.matches('#marks input')"))
        name.press("Tab")
        page.wait_for_function("desk.marks.sections[0].name === 'Flood'")
        page.evaluate("document.activeElement.blur(); desk.player.seek(0)")
        page.keyboard.press("PageDown")
        self.assertAlmostEqual(
            page.evaluate("desk.player.seconds"), page.evaluate("desk.marks.sections[0].start"), delta=0.001
        )
        page.evaluate("desk.setLoop(null)")
        page.locator("#marks .quiet").click()
        page.wait_for_function("desk.marks.list.length === 0")

    def test_lean_and_the_click_s_figure_are_a_tab_away(self):
        page = self.page
        page.get_by_role("tab", name="Follow").click()
        page.get_by_role("tab", name="Lean").click()
        page.wait_for_selector(".lean-table .strip")
        self.assertEqual(page.locator(".lean-table tbody tr").count(), page.evaluate("desk.facts.tracks.length"))
        page.get_by_role("tab", name="Click", exact=True).click()
        self.assertFalse(page.locator("#leanview").is_visible())
        before = len(page.evaluate("fetch(`/sessions/${desk.facts.id}/click`).then((r) => r.json())")["samples"])
        with page.expect_response("**/click-style"):
            page.select_option("#click-figure", "eighths")
        after = len(page.evaluate("fetch(`/sessions/${desk.facts.id}/click`).then((r) => r.json())")["samples"])
        self.assertEqual(after, 2 * before - 1)
        page.select_option("#click-figure", "beats")
