"""Evidence for bar lines: the tracks' own beside that of the networks."""

import unittest

import numpy as np

from core.tracking.downbeats import combined


class CombinedTests(unittest.TestCase):
    """The tracks' own evidence counts as far as it goes along with the networks'."""

    def setUp(self) -> None:
        self.told = np.tile([2.0, -2.0, -1.0, -2.0], 16)
        self.pattern = np.tile([1.0, -1.0, -1.0, -1.0], 16)

    def test_what_goes_along_counts(self) -> None:
        own = np.tile([1.5, -0.5, 0.0, -1.0], 16)
        together = combined(own, self.told, self.pattern)
        self.assertGreater(together[0], (self.told + self.pattern)[0] + 1.5)
        self.assertLess(together[3], (self.told + self.pattern)[3])

    def test_what_speaks_for_other_beats_does_not(self) -> None:
        against = -np.tile([1.5, -0.5, 0.0, -1.0], 16)
        np.testing.assert_array_equal(combined(against, self.told, self.pattern), self.told + self.pattern)

    def test_what_goes_along_by_half_counts_by_half(self) -> None:
        told = np.tile([1.0, -1.0], 32)
        unrelated = np.tile([1.0, 1.0, -1.0, -1.0], 16)
        own = (told + unrelated) / np.sqrt(2)  # its correlation with what is told is the root of a half
        added = combined(own, told, np.zeros(64), (2.0, 1.0)) - told
        np.testing.assert_allclose(added, 2.0 * np.sqrt(0.5) * own)

    def test_evidence_that_is_the_same_throughout_tells_nothing(self) -> None:
        np.testing.assert_array_equal(combined(np.zeros(64), self.told, self.pattern), self.told + self.pattern)

    def test_where_the_networks_are_silent_it_counts_alone(self) -> None:
        own, silent = np.tile([1.5, -0.5, 0.0, -1.0], 16), np.full(64, -3.9)
        added = combined(own, silent, np.zeros(64)) - silent
        self.assertGreater(added[0], 0.5)
        np.testing.assert_allclose(added / added[0], own / own[0])
