"""Make docs/screenshots from the demo data: one PNG a main view at 1280x800."""

import tempfile
from pathlib import Path

from tests.browser.studio import Browser, Studio, settled

TARGET = Path(__file__).resolve().parents[1] / "docs" / "screenshots"

SECTIONS = (("Quay", 1, 9), ("Out of the harbour", 9, 24), ("Becalmed", 24, 29), ("Homeward", 29, 41))


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
            page.wait_for_timeout(1500)
            page.screenshot(path=TARGET / "desk.png")
            page.evaluate("desk.view.set(38.6, 362); desk.select(desk.grid.index(desk.grid.nearest(41.0)))")
            page.wait_for_timeout(1500)
            page.screenshot(path=TARGET / "desk-bar.png")
            page.keyboard.press("w")
            page.wait_for_function("document.body.dataset.doubts", timeout=60_000)
            page.keyboard.press("j")
            page.wait_for_timeout(1200)
            page.screenshot(path=TARGET / "doubt.png")
            page.keyboard.press("w")
            for stage in ("Guide", "Find", "Deliver"):
                page.get_by_role("tab", name=stage).click()
                page.wait_for_timeout(700)
                page.screenshot(path=TARGET / f"{stage.lower()}.png")
            page.get_by_role("tab", name="Follow").click()
            page.get_by_role("tab", name="Lean").click()
            page.wait_for_timeout(2500)
            page.screenshot(path=TARGET / "lean.png")
            page.get_by_role("tab", name="Check").click()
            for name, first, last in SECTIONS:
                page.evaluate(
                    "([n, a, b]) => { const g = desk.grid, t = (bar) => g.time[g.bar.indexOf(bar)];"
                    "desk.setLoop([t(a), t(b)]); return desk.marks.set('section', n); }",
                    [name, first, last],
                )
            page.evaluate("desk.setLoop([desk.grid.time[28], desk.grid.time[60]])")
            page.get_by_role("tab", name="Stretch").click()
            page.wait_for_timeout(900)
            page.screenshot(path=TARGET / "stretch.png")
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
            page.wait_for_timeout(2500)
            page.screenshot(path=TARGET / "fold-wrong.png")
            page.keyboard.press("v")
            page.get_by_role("tab", name="Steps").click()
            page.evaluate("(step) => desk.compare.with(step)", right)
            page.wait_for_timeout(900)
            page.screenshot(path=TARGET / "compare.png")
        finally:
            browser.close()
            studio.stop()


main()
