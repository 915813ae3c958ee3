"""Ten tasks of a newcomer's first hour, each with the number of actions it may take: presses, drags, typed words.

docs/newcomers.md lists them for people to try.
"""

import re

from django.test import tag

from tests.browser.studio import INPUT_IS_OPEN, SharedDemoCase, quiet, settled
from tests.shared import ROOT


class Hands:
    """Whatever a person does to the page, counted."""

    def __init__(self, page):
        self.page, self.actions = page, 0

    def press(self, role, name):
        self.actions += 1
        self.page.get_by_role(role, name=name, exact=True).first.click()

    def key(self, key):
        self.actions += 1
        self.page.keyboard.press(key)

    def type(self, label, words):
        self.actions += 1
        self.page.get_by_label(label, exact=True).first.fill(words)

    def choose(self, label, value):
        self.actions += 1
        self.page.get_by_label(label, exact=True).first.select_option(value)

    def drag(self, canvas, start, end, height):
        self.actions += 1
        box = self.page.locator(canvas).bounding_box()
        x = lambda t: box["x"] + self.page.evaluate("(t) => desk.view.x(t)", t)  # noqa: E731
        self.page.mouse.move(x(start), box["y"] + height)
        self.page.mouse.down()
        self.page.mouse.move(x(end), box["y"] + height, steps=6)
        self.page.mouse.up()


class Newcomers(SharedDemoCase):
    def setUp(self):
        self.page = self.fresh()
        self.origin = self.page.evaluate("desk.step")
        self.hands = Hands(self.page)

    def tearDown(self):
        if "/sessions/3/" in self.page.url:
            self.page.evaluate("(step) => desk.editing.goTo(step)", self.origin)
        self.assertEqual(self.browser.errors, [])

    def within(self, number):
        """The task took as many actions as the list says."""
        task = self._testMethodName.removeprefix("test_").replace("_", " ")
        listed = dict(re.findall(r"^\| (.+?) \| (\d+) \|", (ROOT / "docs" / "newcomers.md").read_text(), re.M))
        self.assertEqual(listed[task], str(number))
        self.assertLessEqual(self.hands.actions, number)

    def test_hear_the_take_with_its_click(self):
        self.hands.press("button", "Play")
        self.page.wait_for_function("desk.player.playing && desk.player.clickLevel > 0")
        self.within(1)

    def test_hear_the_first_place_that_may_be_wrong(self):
        self.page.wait_for_function("document.body.dataset.doubts")
        self.hands.key("j")
        self.hands.key("g")
        self.page.wait_for_function("desk.player.playing && desk.player.seconds > 5")
        self.within(2)

    def test_move_a_line_and_take_it_back(self):
        self.page.evaluate("desk.view.set(20, 400)")
        at = self.page.evaluate("desk.grid.time[desk.grid.nearest(24)]")
        self.edited(lambda: self.hands.drag("#lanes", at, at + 0.3, 60))
        self.edited(lambda: self.hands.press("button", "Undo"))
        self.within(2)

    def test_say_which_bar_is_bar_1(self):
        self.page.evaluate("desk.go(desk.grid.time[20]); desk.select(desk.grid.index(20))")
        self.hands.press("tab", "Beat")
        self.hands.type("This is bar", "1")
        self.edited(lambda: self.hands.press("button", "Renumber"))
        self.assertEqual(self.page.evaluate("desk.grid.bar[20]"), 1)
        self.within(3)

    def test_name_a_section(self):
        self.hands.drag("#ruler", self.page.evaluate("desk.grid.time[4]"), self.page.evaluate("desk.grid.time[36]"), 6)
        self.hands.press("tab", "Marks")
        self.hands.type("Name", "Refrain")
        self.hands.press("button", "Add section")
        self.page.wait_for_function("desk.marks.sections.some((s) => s.name === 'Refrain')")
        self.within(4)

    def test_add_a_drum_part_that_rides_the_bars(self):
        self.hands.press("tab", "Follow")
        self.hands.press("tab", "Parts")
        self.hands.press("button", "Add")
        self.page.wait_for_function("desk.facts.parts.some((p) => p.rides)")
        self.within(3)

    def test_find_the_chords(self):
        self.hands.press("tab", "Follow")
        self.hands.press("tab", "Chords")
        self.hands.press("button", "Find the chords")
        self.page.wait_for_function("desk.chords.data?.at.length > 20")
        self.within(3)

    def test_get_the_tempo_map_as_a_midi_file(self):
        self.hands.press("tab", "Deliver")
        self.hands.press("tab", "Files")
        quiet(self.page)
        with self.page.expect_download() as got:
            self.hands.actions += 1
            self.page.get_by_text("Tempo map, MIDI file").first.click()
        self.assertTrue(got.value.suggested_filename.endswith(".mid"))
        self.within(3)

    def test_make_the_page_dark(self):
        self.hands.key("Control+/")
        self.page.keyboard.type("dark")
        self.hands.actions += 1
        self.hands.key("Enter")
        self.page.wait_for_function("document.documentElement.dataset.theme === 'dark'")
        self.within(3)

    @tag("real_time")
    def test_record_a_take_and_have_it_mapped(self):
        self.page.goto(self.studio.url)
        settled(self.page)
        self.hands.press("button", "Record a take")
        self.page.wait_for_url("**/desk*")
        settled(self.page)
        self.hands.choose("Input", "simulated")
        self.page.wait_for_function(INPUT_IS_OPEN)
        self.hands.press("button", "Record")
        self.page.wait_for_function("desk.recording.pass?.frames > 8 * desk.facts.rate")
        self.hands.press("button", "Stop")
        self.page.wait_for_function("desk.step")
        self.within(4)
        made = self.page.evaluate("desk.facts.id")
        self.page.goto(self.studio.url)
        self.page.evaluate("(made) => fetch(`/sessions/${made}`, { method: 'DELETE', headers: "
                           "{ 'X-CSRFToken': document.cookie.match(/csrftoken=([^;]+)/)[1] } })", made)  # fmt: skip
