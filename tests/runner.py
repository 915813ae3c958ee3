"""Runs the tests so that two cores are never idle: browser tests, which mostly wait for a page, go beside those that
calculate, not before them."""

from unittest import TestSuite

from django.test.runner import DiscoverRunner, ParallelTestSuite


def spread(suites: list[TestSuite]) -> list[TestSuite]:
    """Browser tests evenly among the others, in their order; the first one first, as they take longest."""
    waiting = [s for s in suites if _module(s).startswith("tests.browser")]
    others = [s for s in suites if not _module(s).startswith("tests.browser")]
    places = [(k / max(1, len(waiting)), 0, s) for k, s in enumerate(waiting)]
    places += [(k / max(1, len(others)), 1, s) for k, s in enumerate(others)]
    return [s for *_, s in sorted(places, key=lambda p: p[:2])]


def _module(suite: TestSuite) -> str:
    return next((type(test).__module__ for test in suite), "")


class SpreadSuite(ParallelTestSuite):
    def __init__(self, subsuites, *args, **kwargs):
        super().__init__(spread(subsuites), *args, **kwargs)


class Runner(DiscoverRunner):
    parallel_test_suite = SpreadSuite
