"""A known number of beats between two ends: against every chain there is, and on slow-downs and holds."""

import warnings
from functools import cache
from itertools import combinations, product
from unittest import TestCase

import numpy as np

from core.tracking.decoder import COUNTED_HELD, COUNTED_RANGE, decode_counted
from core.tracking.parameters import COUNTED, COUNTED_AMONG
from core.tracking.semi_markov import transition_costs


def evenly(curve, beats):
    """Frames between beats where they are even."""
    return (len(curve) - 1) / beats


def best_of_all(curve, beats, usual, costs):
    """Every chain tried by the definition: tempo changes at a price, or a hold after which any tempo may come."""
    last = len(curve) - 1
    shortest, longest = int(usual / COUNTED_RANGE), int(usual * COUNTED_RANGE) + 1
    cost = transition_costs(shortest, longest - shortest + 1, costs.change)

    @cache
    def prior(i):
        return costs.stray * 0.15 * (np.log(i / usual) / np.log(1.25)) ** 2

    def worth(chain):
        """The best way to explain each gap: as a tempo, or as a hold followed by the tempo that serves best."""
        gaps = np.diff(chain)
        gain = curve[list(chain)].sum()
        states = {None: 0.0}  # the tempo in mind, and what it cost to get there
        for gap in gaps:
            new = {}
            for tempo, total in states.items():
                if shortest <= gap <= longest:
                    step = 0.0 if tempo is None else cost[gap - shortest, tempo - shortest]
                    new[gap] = max(new.get(gap, -np.inf), total - step - prior(gap))
                if tempo is not None and int(COUNTED_HELD[0] * usual) <= gap <= int(COUNTED_HELD[1] * usual):
                    for after in range(shortest, longest + 1):
                        new[after] = max(new.get(after, -np.inf), total - costs.hold - prior(after))
            states = new
        return gain + max(states.values(), default=-np.inf)

    chains = [(0, *inner, last) for inner in combinations(range(1, last), beats - 1)]
    return max((worth(c), c) for c in chains)


class Counted(TestCase):
    def test_equals_every_chain_tried(self):
        rng = np.random.default_rng(7)
        cases = ((3, 25, 1), (4, 25, 1), (5, 22, 1), (4, 25, 1.5), (5, 24, 1.3))
        for (beats, frames, faster), costs in product(cases, (COUNTED, COUNTED_AMONG)):
            curve = rng.uniform(0, 3, frames)
            usual = evenly(curve, beats) / faster
            score, chain = best_of_all(curve, beats, usual, costs)
            found, worth = decode_counted(curve, beats, usual, costs)
            self.assertEqual(tuple(found.tolist()), chain, f"{beats} beats, {score:.3f}")
            self.assertAlmostEqual(worth, score, places=9)

    def test_a_slow_down_is_followed_to_its_end(self):
        gaps = np.array([50, 50, 52, 56, 62, 70, 80, 92])
        times = np.concatenate([[0], np.cumsum(gaps)])
        curve = np.zeros(times[-1] + 1)
        curve[times] = 1.0
        np.testing.assert_array_equal(decode_counted(curve, len(gaps), evenly(curve, len(gaps)))[0], times)

    def test_a_hold_in_the_middle_is_one_long_beat(self):
        gaps = np.array([50, 50, 50, 50, 170, 46, 46, 46, 46])
        times = np.concatenate([[0], np.cumsum(gaps)])
        curve = np.zeros(times[-1] + 1)
        curve[times] = 1.0
        np.testing.assert_array_equal(decode_counted(curve, len(gaps), evenly(curve, len(gaps)))[0], times)

    def test_pins_are_beats_and_the_count_is_kept(self):
        curve = np.random.default_rng(3).uniform(0, 1, 801)
        found, _ = decode_counted(curve, 16, 50.0, pins=np.array([333, 512]))
        self.assertEqual((len(found), found[0], found[-1]), (17, 0, 800))
        self.assertTrue({333, 512} <= set(found.tolist()))

    def test_two_pins_a_frame_apart_fit_no_chain(self):
        found, _ = decode_counted(np.zeros(401), 8, 50.0, pins=np.array([200, 201]))
        self.assertFalse({200, 201} <= set(found.tolist()))

    def test_where_there_is_no_room_for_the_beats_there_is_no_chain(self):
        """As of a stretch that lies behind the recording's end."""
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            for frames in range(5):
                self.assertEqual(len(decode_counted(np.ones(frames), 5, 10.0)[0]), 0)
