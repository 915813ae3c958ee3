"""The order in which test classes run side by side."""

from unittest import TestCase, TestSuite

from tests.runner import spread


def suite_of(module: str) -> TestSuite:
    case = type("Case", (TestCase,), {"__module__": module, "test_it": lambda self: None})
    return TestSuite([case("test_it")])


class Order(TestCase):
    def test_browser_tests_lie_evenly_among_the_others_and_all_keep_their_order(self):
        browser = [suite_of(f"tests.browser.{k}") for k in range(3)]
        others = [suite_of(f"tests.core.{k}") for k in range(9)]
        found = spread([*others, *browser])
        self.assertEqual([k for k, s in enumerate(found) if s in browser], [0, 4, 8])
        self.assertEqual([s for s in found if s in browser], browser)
        self.assertEqual([s for s in found if s in others], others)

    def test_one_kind_alone_stays_as_it_is(self):
        for kind in ("tests.core", "tests.browser"):
            suites = [suite_of(f"{kind}.{k}") for k in range(4)]
            self.assertEqual(spread(suites), suites)
        self.assertEqual(spread([]), [])
