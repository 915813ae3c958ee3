"""For everybody: axe on every view, the story by keyboard alone and by fingers, every width and 200 %, dark, forced colours.

axe-core (MPL 2.0, for tests only) checks WCAG 2.2 A and AA and its own best practices.
"""

from tests.browser.studio import SCRIPTS, SharedDemoCase, quiet, settled
from tests.shared import ROOT

AXE = (ROOT / "node_modules" / "axe-core" / "axe.min.js").read_text()
#: Rules that were broken, with the first element that breaks each.
VIOLATIONS = """(said) => { const [where, rules] = said ?? []; return axe.run(where ?? document, { resultTypes: ["violations"], ...(rules ? { runOnly: rules } : {}) }).then((found) =>
  found.violations.map((v) => [v.id, v.help, v.nodes[0].html.slice(0, 200), v.nodes[0].any[0]?.message])); }"""
#: Buttons, fields and tabs that neither lie in the window nor can be scrolled to.
OUT_OF_REACH = """() => [...document.querySelectorAll("button, input, select, [role=tab], a")].filter((e) => {
  if (!e.checkVisibility() || e.closest(".visually-hidden, dialog") || e.type === "file" || e.type === "hidden") return false;
  e.scrollIntoView({ block: "nearest", inline: "nearest" });
  const box = e.getBoundingClientRect();
  const x = box.left + box.width / 2, y = box.top + box.height / 2;
  return x < 0 || y < 0 || x > innerWidth || y > innerHeight;
}).map((e) => e.outerHTML.slice(0, 120))"""
#: Whether an element is on top at its own middle, so that a finger or a pointer meets it.
MEETS = """(e) => { const b = e.getBoundingClientRect();
  return e.contains(document.elementFromPoint(b.left + b.width / 2, b.top + b.height / 2)); }"""
STAGES = ("Gather", "Guide", "Find", "Check", "Follow", "Reshape", "Deliver")


class Access(SharedDemoCase):
    def opened(self, address="/sessions/3/desk", **media):
        """A page as the system wishes it: dark, without motion, in forced colours."""
        page = self.browser.kept()
        usual = {"color_scheme": "light", "reduced_motion": "no-preference", "forced_colors": "none"}
        page.emulate_media(**{**usual, **media})
        self.addCleanup(lambda: page.is_closed() or page.emulate_media(**usual))
        return self.fresh(address)

    def with_fingers(self):
        size = {"width": 820, "height": 1180}
        context = self.browser.chromium.new_context(viewport=size, bypass_csp=True, has_touch=True, is_mobile=True)
        self.addCleanup(context.close)
        page = self.browser.watched(context.new_page())
        page.goto(f"{self.studio.url}/sessions/3/desk")
        settled(page)
        return page

    def stage(self, page, name):
        page.get_by_role("navigation").or_(page.locator("nav")).get_by_role("tab", name=name, exact=True).first.click()
        page.wait_for_function(f"desk.panels.stage === '{name.lower()}'")
        page.wait_for_function("desk.panels.filled === desk.panels.stage")
        quiet(page)

    def check(self, page, view, where=None, rules=None):
        """``where``: the part that is looked at, for all that is the same around it."""
        with self.subTest(view):
            if not page.evaluate("() => 'axe' in globalThis"):
                page.evaluate(AXE)
            self.assertEqual(page.evaluate(VIOLATIONS, [where, rules]), [])

    def check_in_both(self, page, views):
        """All in the scheme the page is in, then the colours in the other: a change costs a second of drawing, so that
        all views are gone through twice. ``views``: opens one after the other and yields its name and its part."""
        here = page.evaluate("document.documentElement.dataset.theme")
        for view, where in views(page):
            self.check(page, f"{here} {view}", where)
        other = "light" if here == "dark" else "dark"
        page.emulate_media(color_scheme=other)
        page.wait_for_function(f"document.documentElement.dataset.theme === '{other}'")
        for view, where in views(page):
            self.check(page, f"{other} {view}", where, ["color-contrast"])

    def pages(self, page):
        for address in ("/", "/sessions/3/bars", "/queue", "/archives"):
            page.goto(self.studio.url + address)
            yield address, None

    def panes(self, page):
        for name in STAGES:
            self.stage(page, name)
            yield name, None
            for pane in page.locator("#panel nav.panes [role=tab]:not([aria-selected=true])").all_text_contents():
                page.get_by_role("tab", name=pane, exact=True).first.click()
                quiet(page)
                yield f"{name}, {pane}", "#panel"
        for key in ("v", "?", "Control+/"):
            page.keyboard.press(key)
            quiet(page)
            yield f"after {key}", None
            page.keyboard.press("v" if key == "v" else "Escape")

    def test_axe_finds_nothing_on_any_page(self):
        # without motion, so that no colour is caught half-way
        self.check_in_both(self.opened("/", reduced_motion="reduce"), self.pages)

    def test_axe_finds_nothing_in_any_pane(self):
        self.check_in_both(self.opened(reduced_motion="reduce"), self.panes)

    def test_nothing_is_out_of_reach_at_any_size(self):
        # the last is 1280x800 enlarged to 200 %; where the desk is laid out otherwise, every stage is looked at
        page = self.opened()
        for width, height in ((1024, 700), (1280, 800), (1920, 1080), (820, 1180), (640, 400)):
            page.set_viewport_size({"width": width, "height": height})
            quiet(page)
            for name in STAGES if width < 1000 else ("Check", "Reshape"):
                with self.subTest(size=(width, height), stage=name):
                    self.stage(page, name)
                    self.assertEqual(page.evaluate(OUT_OF_REACH), [])
                    sideways = "document.documentElement.scrollWidth - innerWidth"
                    self.assertLessEqual(page.evaluate(sideways), 0)
                    self.assertTrue(page.locator("#play").evaluate(MEETS))

    def test_dark_is_the_systems_wish_until_it_is_chosen(self):
        page = self.opened(color_scheme="dark")
        theme = "document.documentElement.dataset.theme"
        self.assertEqual(page.evaluate(theme), "dark")
        page.emulate_media(color_scheme="light")
        page.wait_for_function(f"{theme} === 'light'")
        paper = "document.getElementById('lanes').getContext('2d').getImageData(2, 2, 1, 1).data[0]"
        quiet(page)
        self.assertGreater(page.evaluate(paper), 200)
        page.keyboard.press("Control+.")
        quiet(page)
        self.assertLess(page.evaluate(paper), 60)  # the canvases follow
        page.reload()
        settled(page)
        self.assertEqual(page.evaluate(theme), "dark")

    def test_forced_colours_reach_the_canvases(self):
        page = self.opened(forced_colors="active")
        self.assertEqual(page.evaluate(f"import({SCRIPTS} + 'desk/palette.js').then((m) => m.INK.ink)"), "CanvasText")
        self.check(page, "forced colours")

    def test_less_motion_is_no_motion(self):
        page = self.opened(reduced_motion="reduce")
        longest = page.evaluate(
            "Math.max(...[...document.querySelectorAll('*')].map((e) => parseFloat(getComputedStyle(e).transitionDuration)))"
        )
        self.assertLess(longest, 0.001)

    def test_the_side_panel_is_widened_by_mouse_and_keys_and_stays_so(self):
        page = self.opened()
        width = "document.querySelector('.side').offsetWidth"
        before = page.evaluate(width)
        handle = page.get_by_role("separator", name="Width of the side panel")
        box = handle.bounding_box()
        page.mouse.move(box["x"] + 4, 400)
        page.mouse.down()
        page.mouse.move(box["x"] - 146, 400, steps=4)
        page.mouse.up()
        self.assertAlmostEqual(page.evaluate(width), before + 150, delta=6)
        handle.focus()
        page.keyboard.press("ArrowRight")
        self.assertAlmostEqual(page.evaluate(width), before + 126, delta=6)
        page.reload()
        settled(page)
        self.assertAlmostEqual(page.evaluate(width), before + 126, delta=6)

    def reach(self, page, name):
        """Tab on until what has this name has the focus."""
        named = "(document.activeElement.ariaLabel ?? document.activeElement.textContent).trim()"
        for _ in range(80):
            if page.evaluate(named) == name:
                return
            page.keyboard.press("Tab")
        self.fail(f"{name} was not reached in 80 presses")

    def do(self, page, words):
        page.keyboard.press("Control+/")
        page.keyboard.type(words)
        page.keyboard.press("Enter")

    def test_the_story_by_keyboard_alone(self):
        page = self.opened("/")
        self.reach(page, "Lantern on the Slipway")
        page.keyboard.press("Enter")
        page.wait_for_url("**/sessions/3/desk*")
        settled(page)
        page.wait_for_function("document.body.dataset.doubts")
        page.keyboard.press("Space")
        page.wait_for_function("desk.player.playing")
        page.keyboard.press("Space")
        self.do(page, "next doubt")
        page.wait_for_function("desk.player.seconds > 1")
        self.page = page
        before = self.edited(lambda: self.do(page, "pin bea"))
        self.edited(lambda: page.keyboard.press("Control+z"))
        self.assertEqual(len(before), page.evaluate("desk.grid.length"))
        self.reach(page, "Check")
        for _ in range(3):
            page.keyboard.press("ArrowRight")
        page.wait_for_function("desk.panels.stage === 'deliver'")
        quiet(page)
        self.reach(page, "Files")
        page.keyboard.press("ArrowRight")
        page.keyboard.press("ArrowLeft")
        quiet(page)
        link = page.locator("#panel a[download], #panel a[href*='.mid']").first
        self.reach(page, link.evaluate("(e) => (e.ariaLabel ?? e.textContent).trim()"))
        with page.expect_download() as got:
            page.keyboard.press("Enter")
        self.assertTrue(got.value.path().stat().st_size > 0)

    def test_a_screen_reader_finds_the_parts_of_the_desk(self):
        page = self.opened()
        tree = page.locator("body").aria_snapshot()
        for part in (
            "banner",
            "main",
            'complementary "Side panel"',
            'contentinfo "Player"',
            'heading "Lantern on the Slipway" [level=1]',
            'tab "Check" [selected]',
            'slider "Level of Double bass"',
            'button "Play"',
            'separator "Width of the side panel"',
        ):
            with self.subTest(part):
                self.assertIn(part, tree)

    def touch(self, page, kind, *points):
        self.fingers = client = getattr(self, "fingers", None) or page.context.new_cdp_session(page)
        where = [{"x": x, "y": y, "id": i} for i, (x, y) in enumerate(points)]
        client.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": where})

    def test_the_story_by_fingers_on_a_tablet(self):
        page = self.page = self.with_fingers()
        box = page.locator("#lanes").bounding_box()
        x, y = box["x"] + box["width"] / 2, box["y"] + 60
        # two fingers apart: in
        span = page.evaluate("desk.view.span")
        self.touch(page, "touchStart", (x - 40, y), (x + 40, y))
        for d in range(50, 170, 10):
            self.touch(page, "touchMove", (x - d, y), (x + d, y))
        self.touch(page, "touchEnd")
        self.assertLess(page.evaluate("desk.view.span"), span / 2.5)
        # one finger: along
        start = page.evaluate("desk.view.start")
        self.touch(page, "touchStart", (x + 100, y))
        for d in range(90, -110, -10):
            self.touch(page, "touchMove", (x + d, y))
        self.touch(page, "touchEnd")
        moved = page.evaluate("(was) => (desk.view.start - was) / desk.view.perPixel", start)
        self.assertAlmostEqual(moved, 200, delta=24)
        page.evaluate("desk.view.set(20, 400)")
        quiet(page)
        step = page.evaluate("desk.step")
        # a press on a bar line chooses it; then it can be dragged, and Undo brings it back
        line = page.evaluate(
            "(() => { const g = desk.grid, v = desk.view; const i = g.time.findIndex((t, i) => g.beat[i] === 1 && v.x(t) > 200); return v.x(g.time[i]); })()"
        )
        page.touchscreen.tap(box["x"] + line, y)
        page.wait_for_function("desk.selected !== null")
        self.assertEqual(page.evaluate("desk.step"), step)
        self.touch(page, "touchStart", (box["x"] + line, y))
        for d in (10, 25, 45):
            self.touch(page, "touchMove", (box["x"] + line + d, y))
        self.edited(lambda: self.touch(page, "touchEnd"))
        page.get_by_role("tab", name="Steps", exact=True).tap()
        quiet(page)
        self.edited(lambda: page.get_by_role("button", name="Undo").first.tap())
        page.locator("#play").tap()
        page.wait_for_function("desk.player.playing")
        page.locator("#play").tap()
