"""Make docs/screenshots from the demo data: one PNG a main view at 1280x800."""

import tempfile
from pathlib import Path

from tests.browser.studio import INPUT_IS_OPEN, Browser, Studio, settled

TARGET = Path(__file__).resolve().parents[1] / "docs" / "screenshots"

SECTIONS = (("Quay", 1, 9), ("Out of the harbour", 9, 24), ("Becalmed", 24, 29), ("Homeward", 29, 41))


def reshaping(page) -> None:
    """Tighten and conform; the history is back where it was afterwards."""
    origin = page.evaluate("desk.step")
    page.get_by_role("tab", name="Reshape").click()
    page.evaluate("desk.setLoop([9, 11].map((b) => desk.grid.time[desk.grid.bar.indexOf(b)]))")
    page.evaluate("desk.view.set(desk.loop[0] - 0.5, (7 * desk.facts.rate) / desk.view.width)")
    page.get_by_label("Drum and boots", exact=True).first.check()
    page.get_by_role("button", name="Tighten the stretch").click()
    page.wait_for_function("document.body.dataset.clock === 'result'")
    page.keyboard.press("Control+Enter")
    page.wait_for_function("document.body.dataset.clock === 'recording'")
    page.locator("#tighten-toward").select_option(label="Hammered dulcimer")
    page.evaluate(
        "desk.reshaping.make({do: 'hush', track: desk.facts.tracks[3].id, start: desk.loop[0], end: desk.loop[1]})"
    )
    page.wait_for_timeout(5000)  # the note goes
    page.screenshot(path=TARGET / "tighten.png")
    page.get_by_role("tab", name="Conform").click()
    page.locator("[name=kind][value=average]").check()
    page.get_by_role("button", name="Conform", exact=True).click()
    page.wait_for_function("document.body.dataset.clock === 'result'")
    page.get_by_role("tab", name="Cost").click()
    page.keyboard.press("w")
    page.wait_for_timeout(5000)
    page.screenshot(path=TARGET / "conform.png")
    page.evaluate("(step) => desk.editing.goTo(step)", origin)
    page.wait_for_function("document.body.dataset.clock === 'recording'")
    page.wait_for_timeout(1500)


def two_takes(browser, studio) -> None:
    """The kitchen's take follows the boathouse's; the bars it lacks are confirmed."""
    page = browser.page()
    page.goto(studio.url)
    page.get_by_role("link", name="Lantern at the kitchen table").click()
    settled(page)
    page.get_by_role("tab", name="Reshape").click()
    page.get_by_role("tab", name="Two takes").click()
    page.locator("#link-other").select_option(label="Lantern on the Slipway")
    page.get_by_role("button", name="Link", exact=True).click()
    page.wait_for_function("document.body.dataset.clock === 'result'")
    page.get_by_role("button", name="Do that").click()
    page.get_by_role("button", name="Not so").wait_for()
    page.mouse.move(1150, 770)
    page.wait_for_timeout(6000)
    page.evaluate("document.querySelector('svg.link').previousElementSibling.scrollIntoView({ block: 'start' })")
    page.screenshot(path=TARGET / "two-takes.png")
    page.close()


def main() -> None:
    TARGET.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        studio, browser = Studio(Path(folder), demo=True).start(), Browser()
        try:
            page = browser.page()
            page.goto(studio.url)
            settled(page)
            page.screenshot(path=TARGET / "library.png")
            page.get_by_role("link", name="Lantern on the Slipway").click()
            settled(page)
            page.wait_for_function("document.body.dataset.doubts", timeout=60_000)
            page.wait_for_timeout(1500)
            page.screenshot(path=TARGET / "desk.png")
            other_looks(browser, studio)
            record(browser, studio)
            doubt(browser, studio)
            two_takes(browser, studio)
            for stage in ("Guide", "Find", "Deliver"):
                page.get_by_role("tab", name=stage).click()
                page.wait_for_timeout(700)
                page.screenshot(path=TARGET / f"{stage.lower()}.png")
            page.get_by_role("tab", name="Follow").click()
            page.get_by_role("tab", name="Lean").click()
            page.wait_for_timeout(2500)
            page.screenshot(path=TARGET / "lean.png")
            following(page)
            page.get_by_role("tab", name="Check").click()
            for name, first, last in SECTIONS:
                page.evaluate(
                    "([n, a, b]) => { const g = desk.grid, t = (bar) => g.time[g.bar.indexOf(bar)];"
                    "desk.setLoop([t(a), t(b)]); return desk.marks.set('section', n); }",
                    [name, first, last],
                )
            page.evaluate("desk.setLoop(null)")
            page.get_by_role("tab", name="Follow").click()
            page.get_by_role("tab", name="Order", exact=True).click()
            page.locator("#order button[name=all]").click()
            page.locator("#order button[name=hold]").nth(2).click()
            page.wait_for_timeout(600)
            page.locator("[data-play-from='2']").click()
            page.wait_for_function("desk.player.order && desk.player.seconds > 55.5")
            page.keyboard.press("b")
            page.wait_for_timeout(250)
            page.screenshot(path=TARGET / "order.png")
            page.keyboard.press("u")
            page.keyboard.press(" ")
            reshaping(page)
            page.get_by_role("tab", name="Check").click()
            page.evaluate("desk.setLoop(null); desk.panels.turn('doubts')")
            page.keyboard.press("v")
            page.wait_for_timeout(1200)
            page.screenshot(path=TARGET / "fold.png")
            # a map that is wrong in two places, compared with the right one
            right = page.evaluate("desk.step")
            for edit in (
                {"kind": "ratio", "ratio": "2:1", "stretch": page.evaluate("[desk.grid.time[60], desk.grid.time[76]]")},
                {"kind": "steady", "stretch": page.evaluate("[desk.grid.time[146], desk.grid.time[166]]")},
            ):
                page.evaluate("(edit) => desk.editing.make(edit)", edit)
            page.wait_for_function("document.body.dataset.doubts?.startsWith(desk.step + ':')", timeout=60_000)
            page.keyboard.press("v")
            page.get_by_role("tab", name="Steps").click()
            page.evaluate("(step) => desk.compare.with(step)", right)
            page.wait_for_timeout(900)
            page.screenshot(path=TARGET / "compare.png")
            page.evaluate("desk.compare.leave()")
            page.goto(studio.url)
            settled(page)
            page.get_by_role("link", name="Letter to the Ferryman").click()
            settled(page)
            page.get_by_role("tab", name="Follow").click()
            page.get_by_role("tab", name="Score", exact=True).click()
            page.wait_for_selector(".score svg .note", state="attached")
            page.wait_for_timeout(900)
            page.screenshot(path=TARGET / "score.png")
        finally:
            browser.close()
            studio.stop()


def other_looks(browser, studio) -> None:
    """The same desk in the dark, and upright on a tablet."""
    for name, options in (
        ("dark", {"viewport": {"width": 1280, "height": 800}, "color_scheme": "dark"}),
        ("tablet", {"viewport": {"width": 820, "height": 1180}, "has_touch": True, "is_mobile": True}),
    ):
        context = browser.chromium.new_context(bypass_csp=True, **options)
        page = browser.watched(context.new_page())
        page.goto(f"{studio.url}/sessions/3/desk")
        settled(page)
        page.wait_for_function("document.body.dataset.doubts", timeout=60_000)
        page.evaluate("desk.doubts.visit(1)" if name == "dark" else "desk.view.fit()")
        page.wait_for_timeout(1500)
        page.screenshot(path=TARGET / f"{name}.png")
        context.close()


def record(browser, studio) -> None:
    """A first take, while the demo's simulated player plays it."""
    page = browser.page()
    page.goto(studio.url)
    settled(page)
    page.get_by_role("button", name="Record a take").click()
    page.wait_for_url("**/desk*")
    settled(page)
    page.get_by_role("tab", name="Record", exact=True).click()
    page.locator("#record-input").select_option("simulated")
    page.wait_for_function(INPUT_IS_OPEN, timeout=30_000)
    page.get_by_role("button", name="Tuner").click()
    page.keyboard.press("@")
    page.wait_for_function("desk.grid?.length > 60", timeout=90_000)
    page.wait_for_timeout(1500)
    page.screenshot(path=TARGET / "record.png")
    page.keyboard.press("@")
    page.wait_for_function("desk.step", timeout=60_000)
    page.evaluate("fetch(`/sessions/${desk.facts.id}`, { method: 'DELETE', headers: "
                  "{ 'X-CSRFToken': document.cookie.match(/csrftoken=([^;]+)/)[1] } })")  # fmt: skip
    page.close()


def doubt(browser, studio) -> None:
    """A doubt, with its first remedy shown where one fits better; in the demo without drums."""
    page = browser.page()
    page.goto(f"{studio.url}/sessions/2/desk")
    settled(page)
    page.wait_for_function("document.body.dataset.doubts", timeout=60_000)
    page.evaluate("desk.doubts.visit(Math.max(0, desk.doubts.list.findIndex((d) => d.remedies.length)))")
    remedies = page.locator("[data-doubt][aria-current] [data-remedy]")
    if remedies.count():
        remedies.first.hover()
    page.wait_for_timeout(1500)
    page.screenshot(path=TARGET / "doubt.png")
    page.close()


def following(page) -> None:
    """A pattern, a pad on the chords that were found, a bass line in the roll."""
    page.get_by_role("tab", name="Chords", exact=True).click()
    page.get_by_role("button", name="Find the chords").click()
    page.wait_for_function("desk.chords.data?.at.length > 20", timeout=90_000)
    page.get_by_role("button", name="Pad", exact=True).click()
    page.wait_for_function("desk.parts.notes.size === 1")
    page.get_by_role("tab", name="Parts", exact=True).click()
    page.get_by_role("button", name="Add", exact=True).click()
    page.wait_for_function("desk.parts.notes.size === 2")
    page.locator("form [name=instrument]").last.select_option("bass")
    page.get_by_role("button", name="Empty part").click()
    page.wait_for_function("desk.parts.notes.size === 3")
    page.evaluate(BASS)
    page.wait_for_timeout(900)
    page.evaluate("desk.select(null); desk.go(desk.grid.time[6]); desk.parts.roll.close(); desk.view.set(9, 900)")
    page.get_by_role("tab", name="Chords", exact=True).click()
    page.wait_for_timeout(1200)
    page.screenshot(path=TARGET / "following.png")
    page.get_by_role("tab", name="Parts", exact=True).click()
    page.evaluate("desk.parts.roll.open(desk.facts.parts.at(-1).id)")
    page.wait_for_timeout(900)
    page.screenshot(path=TARGET / "roll.png")
    page.evaluate("desk.parts.roll.close()")
    page.keyboard.press("w")


#: A line of two bars, once round.
BASS = """async () => {
  const roll = desk.parts.roll;
  await roll.open(desk.facts.parts.at(-1).id);
  const line = [[1, 0, 1.5, 38], [1, 1.5, 0.5, 38], [1, 2, 1, 45], [1, 3, 0.5, 41], [1, 3.5, 0.5, 40], [2, 0, 1.5, 38], [2, 2, 1, 36], [2, 3, 1, 33]];
  for (const [bar, offset, length, pitch] of line) await roll.make({do: 'add', bar, offset, length, pitch, velocity: 70 + 8 * (offset % 2 === 0)});
  await roll.make({do: 'repeat', from: 1, to: 2, times: 3});
}"""

main()
