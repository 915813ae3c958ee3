"""Reshaping in the real page: tighten a stretch, hear it, conform, switch clocks while playing, take it back."""

import time

import numpy as np

from tests.browser.studio import SharedDemoCase, quiet


class Reshaping(SharedDemoCase):
    def setUp(self):
        self.page = self.fresh()
        self.origin = self.page.evaluate("desk.step")
        self.page.get_by_role("tab", name="Reshape").click()
        self.page.wait_for_selector("#tighten-form")
        quiet(self.page)

    def tearDown(self):
        self.page.evaluate("(step) => desk.editing.goTo(step)", self.origin)
        self.assertEqual(self.browser.errors, [])

    def on(self, clock, playing=False):
        self.page.wait_for_function("clock => document.body.dataset.clock === clock", arg=clock)
        if not playing:
            quiet(self.page)

    def tighten(self):
        page = self.page
        page.evaluate("desk.setLoop([8, 12].map((b) => desk.grid.time[desk.grid.bar.indexOf(b)]))")
        page.get_by_label("Drum and boots", exact=True).first.check()
        page.get_by_role("button", name="Tighten the stretch").click()
        self.on("result")

    def conform(self, bpm):
        page = self.page
        page.get_by_role("tab", name="Conform").click()
        page.locator("[name=kind][value=tempo]").check()
        page.locator("[name=bpm]").fill(str(bpm))
        page.get_by_role("button", name="Conform", exact=True).click()
        self.on("result")

    def test_a_stretch_is_tightened_turned_and_taken_back(self):
        page = self.page
        self.tighten()
        moved = page.evaluate("desk.reshaping.state.tightenings[0].moved.filter(Boolean).length")
        self.assertGreater(moved, 8)
        key = page.evaluate("desk.facts.clock")
        slider = page.locator("[data-amount]")
        slider.focus()
        page.keyboard.press("ArrowLeft")
        page.wait_for_function("key => desk.facts.clock !== key", arg=key)
        quiet(page)
        targets, attacks = (
            np.array(page.evaluate(f"desk.reshaping.state.tightenings[0].{what}")) for what in ("targets", "attacks")
        )
        goals = np.array(page.evaluate("desk.reshaping.state.tightenings[0].goals"), dtype=float)
        at = np.flatnonzero(page.evaluate("desk.reshaping.state.tightenings[0].moved"))
        np.testing.assert_allclose((targets - attacks)[at], 0.55 * (goals - attacks)[at], atol=2e-6)
        # the ticked player stays ticked while the panel comes anew
        self.assertTrue(page.get_by_label("Drum and boots", exact=True).first.is_checked())
        page.get_by_role("button", name="Take back").click()
        self.on("recording")
        self.assertEqual(page.evaluate("desk.reshaping.state.tightenings"), [])

    def test_what_is_chosen_in_a_form_stays_while_the_panel_comes_anew_until_it_is_sent(self):
        page = self.page
        page.get_by_role("tab", name="Conform").click()
        page.locator("[name=kind][value=tempo]").check()
        page.locator("[name=bpm]").fill("93")
        page.locator("#conform-holds").select_option("bars")
        page.locator("#conform-holds").blur()
        for _ in range(2):
            page.evaluate("desk.panels.refresh(0)")
            quiet(page)
        self.assertEqual(page.locator("#conform-form [name=kind]:checked").get_attribute("value"), "tempo")
        self.assertEqual(page.locator("[name=bpm]").input_value(), "93")
        self.assertEqual(page.locator("#conform-holds").input_value(), "bars")
        page.get_by_role("button", name="Conform", exact=True).click()
        self.on("result")
        page.keyboard.press("Control+z")
        self.on("recording")
        # once it was sent, the form follows what the server says again
        page.wait_for_function("document.querySelector('#conform-form [name=kind]:checked').value === 'none'")

    def test_one_attack_is_dragged_then_keyed_and_its_fences_are_moved(self):
        page = self.page
        page.get_by_label("Drum and boots", exact=True).first.check()
        page.wait_for_function("desk.attacks.of(desk.facts.tracks[0])")
        page.evaluate("desk.view.set(30, desk.view.spp / 16)")
        quiet(page)
        at = page.evaluate(
            "(() => { const f = desk.attacks.of(desk.facts.tracks[0]);"
            "return f.seconds.filter((s, k) => s > 31 && f.strength[k] > 0.5)[1]; })()"
        )
        box = page.locator("#lanes").bounding_box()

        def pixel(seconds):
            return box["x"] + page.evaluate("t => desk.view.x(t)", seconds)

        def drag(seconds, by):
            x, y = pixel(seconds), box["y"] + page.evaluate("desk.laneHeight") - 8
            page.mouse.move(x, y)
            page.mouse.down()
            page.keyboard.down("Alt")
            page.mouse.move(x + by, y, steps=4)
            page.mouse.up()
            page.keyboard.up("Alt")

        drag(at, 6)
        self.on("result")
        (move,) = page.evaluate("desk.reshaping.state.moves")
        self.assertAlmostEqual(move["to"] - at, 6 * page.evaluate("desk.view.perPixel"), delta=0.01)
        page.keyboard.press("Control+Enter")
        self.on("recording")
        page.evaluate("t => desk.go(t)", at)
        page.keyboard.press("&")
        page.wait_for_function("key => desk.reshaping.state.moves[0].key !== key", arg=move["key"])
        (more,) = page.evaluate("desk.reshaping.state.moves")
        self.assertAlmostEqual(more["to"], move["to"] + 0.005, 6)
        page.keyboard.press("Control+Enter")
        self.on("recording")
        drag(more["fences"][1], 4)
        page.wait_for_function("after => desk.reshaping.state.moves[0].fences[1] > after", arg=more["fences"][1])

    def test_engines_are_compared_by_keys(self):
        page = self.page
        page.get_by_label("Squeezebox", exact=True).first.check()
        page.keyboard.press("Control+ArrowDown")
        page.get_by_text("Squeezebox: cut").wait_for()
        # the panel of the step before comes while the next ones are under way, and changes nothing of them
        page.route("**/sessions/*/reshape", lambda route: (time.sleep(0.5), route.continue_()))
        page.keyboard.press("Control+ArrowDown")
        page.get_by_text("Squeezebox: blend").wait_for()
        page.keyboard.press("Control+ArrowDown")
        page.keyboard.press("Control+ArrowDown")
        page.get_by_text("Squeezebox: voice").wait_for()
        page.unroute("**/sessions/*/reshape")
        page.keyboard.press("Control+ArrowUp")
        page.get_by_text("Squeezebox: tonal").wait_for()

    def test_without_a_stretch_or_a_player_it_says_what_is_missing(self):
        page = self.page
        page.get_by_role("button", name="Tighten the stretch").click()
        page.get_by_text("Tick the player whose attacks are to move.").wait_for()
        page.get_by_label("Drum and boots", exact=True).first.check()
        page.get_by_role("button", name="Tighten the stretch").click()
        page.get_by_text("Choose a stretch first").wait_for()

    def test_both_clocks_stand_at_the_same_bar_and_beat_while_playing(self):
        page = self.page
        self.conform(120)
        beats = np.array(page.evaluate("desk.grid.time"))
        np.testing.assert_allclose(np.diff(beats)[:100], 0.5, atol=1e-6)
        page.evaluate("desk.player.play(desk.grid.time[80])")
        page.wait_for_function("desk.player.playing && desk.player.seconds > desk.grid.time[81]")
        page.keyboard.press("Control+Enter")
        self.on("recording", playing=True)
        place = "desk.grid.at(desk.player.seconds)"
        self.assertTrue(80 <= page.evaluate(place) < 96)
        self.assertTrue(page.evaluate("desk.player.playing"))
        page.wait_for_function("!desk.player.waiting")
        page.keyboard.press("Control+Enter")
        self.on("result", playing=True)
        self.assertTrue(80 <= page.evaluate(place) < 110)
        page.keyboard.press(" ")

    def test_the_map_is_edited_on_the_recording(self):
        page, held = self.page, []
        # where the sound of the result takes a while, that is told until it is there
        page.route("**/blocks/**clock=*", lambda route: held.append(route), times=1)
        self.addCleanup(page.unroute_all)
        page.get_by_role("tab", name="Conform").click()
        page.locator("[name=kind][value=tempo]").check()
        page.locator("[name=bpm]").fill("100")
        page.get_by_role("button", name="Conform", exact=True).click()
        making = page.get_by_text("Making the sound of the result")
        making.wait_for()
        held[0].continue_()
        making.wait_for(state="detached")
        self.on("result")
        step = page.evaluate("desk.step")
        page.keyboard.press("d")
        page.get_by_text("The map is edited on the recording").wait_for()
        self.assertEqual(page.evaluate("desk.step"), step)
        page.keyboard.press("Control+z")
        self.on("recording")
        page.wait_for_function("desk.reshaping.state.key === ''")
        self.assertFalse(page.evaluate("desk.grid.time.every((t, i, a) => !i || Math.abs(t - a[i - 1] - 0.6) < 1e-6)"))

    def test_a_track_is_hushed_and_the_cost_is_shown(self):
        page = self.page
        page.get_by_role("tab", name="Tracks", exact=True).click()
        for engine in page.locator("[data-engine]").all():
            engine.select_option("cut")  # the quickest: here it matters that files are made, not how
        self.conform(104)
        page.keyboard.press("Control+Enter")
        self.on("recording")
        page.evaluate("desk.setLoop([2, 4].map((b) => desk.grid.time[desk.grid.bar.indexOf(b)]))")
        page.get_by_role("tab", name="Hush").click()
        page.get_by_role("button", name="Hush the stretch").click()
        page.wait_for_selector("text=bar 2 to 4, silent")
        page.get_by_role("tab", name="Cost").click()
        page.wait_for_selector(".strip")
        self.assertEqual(page.locator(".strip rect").count(), 240)
        page.get_by_role("button", name="Make the reshaped tracks").click()
        page.get_by_role("link", name="All as ZIP").wait_for()

    def test_one_track_follows_another_and_is_taken_back(self):
        page = self.page
        page.get_by_role("tab", name="Two takes").click()
        page.get_by_label("Track that follows").select_option(label="Squeezebox")
        page.get_by_label("Track that leads").select_option(label="Hammered dulcimer")
        page.get_by_role("button", name="Link the tracks").click()
        page.wait_for_function("document.body.dataset.clock === 'result'")
        page.get_by_role("heading", name="Squeezebox follows Hammered dulcimer").wait_for()
        page.get_by_role("button", name="Take back").last.click()
        self.on("recording")
        page.get_by_role("heading", name="Squeezebox follows Hammered dulcimer").wait_for(state="detached")
