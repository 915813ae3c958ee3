"""Make docs/screenshots from the demo data: one PNG a main view at 1280x800."""

import tempfile
from pathlib import Path

from tests.browser.studio import Browser, Studio, settled

TARGET = Path(__file__).resolve().parents[1] / "docs" / "screenshots"


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
            for stage in ("Guide", "Find", "Deliver"):
                page.get_by_role("tab", name=stage).click()
                page.wait_for_timeout(700)
                page.screenshot(path=TARGET / f"{stage.lower()}.png")
        finally:
            browser.close()
            studio.stop()


main()
