"""Ten typical mistakes, each repaired through the interface alone in three actions or fewer."""

import tempfile
from pathlib import Path
from unittest import TestCase

from bench import repairs
from tests.browser.studio import Browser, Studio, settled


class Repairs(TestCase):
    def test_each_mistake_takes_three_actions_or_fewer(self):
        with tempfile.TemporaryDirectory() as folder:
            studio = Studio(Path(folder), demo=True).start()
            self.addCleanup(studio.stop)
            browser = Browser()
            self.addCleanup(browser.close)
            page = browser.page()
            page.goto(f"{studio.url}/sessions/3/desk")
            settled(page)
            page.wait_for_function("document.body.dataset.doubts")
            right = repairs.marks(repairs.grid_of(page))
            for name, actions, spoiled, repaired in repairs.run(page):
                with self.subTest(name):
                    self.assertLessEqual(actions, 3)
                    self.assertLess(sum(spoiled), sum(right))
                    self.assertGreaterEqual(repaired[0], right[0] - 0.01, "beats")
                    self.assertGreaterEqual(repaired[1], right[1] - 0.04, "downbeats")
                    if name.startswith("count-in"):
                        self.assertEqual(repaired[2], right[2], "bar numbers")
            self.assertEqual(browser.errors, [])
            studio.stop()
