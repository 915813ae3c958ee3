"""The decoder against the published model that it folds: the bar pointer's efficient state space, a state a frame.

Krebs, Böck and Widmer, "An efficient state-space model for joint tempo and meter tracking" (ISMIR 2015): each tempo has
as many positions as frames a beat, tempo changes only at beats. Decoded there state by state, here beat by beat.
"""

from unittest import TestCase

import numpy as np

from core.tracking.decoder import decode
from core.tracking.parameters import TransitionCosts
from core.tracking.semi_markov import best_chain, best_manners, tempo_prior, transition_costs

NEVER = -1e18


def states(shortest: int, longest: int) -> tuple[np.ndarray, np.ndarray]:
    """Interval and position, in frames, of every state of one beat."""
    intervals = np.repeat(np.arange(shortest, longest + 1), np.arange(shortest, longest + 1))
    positions = np.concatenate([np.arange(i) for i in range(shortest, longest + 1)])
    return intervals, positions


def best_path(gain, shortest, longest, prior, change):
    """Textbook Viterbi (Rabiner 1989) over the expanded states; beats are the states at position 0.

    A path begins at any beat. ``gain`` is earned on every beat, ``prior`` paid on entering an interval's next beat.
    """
    interval, position = states(shortest, longest)
    first = np.flatnonzero(position == 0)
    last = np.append(first[1:], len(interval)) - 1
    cost = transition_costs(shortest, longest - shortest + 1, change)
    lengths = np.arange(shortest, longest + 1)
    allowed = np.array([[max(i, j) <= 1.7 * min(i, j) for j in lengths] for i in lengths])
    cost = np.where(allowed, cost, np.inf)
    score = np.full((len(gain), len(interval)), NEVER)
    backpointers = np.full(score.shape, -1)
    best, end = 0.0, None
    for t in range(len(gain)):
        if t:
            score[t, 1:] = score[t - 1, :-1]  # on by one frame
            backpointers[t, 1:] = np.arange(len(interval) - 1)
        score[t, first] = gain[t]  # a path that opens here
        backpointers[t, first] = -1
        if t:
            arriving = score[t - 1, last] + gain[t] - prior  # a beat that ends each interval
            if arriving.max() > best:
                best, end = float(arriving.max()), (t, int(np.argmax(arriving)))
            on = arriving[None, :] - cost.T  # [to, from]
            which = on.argmax(axis=1)
            better = on[np.arange(len(first)), which] > score[t, first]
            score[t, first[better]] = on[better, which[better]]
            backpointers[t, first[better]] = last[which[better]]
    t, k = end
    beats, state = [t], int(last[k])
    t -= 1
    while True:
        if position[state] == 0:
            beats.append(t)
        before = backpointers[t, state]
        if before < 0:
            break
        t, state = t - 1, int(before)
    return beats[::-1], best


class StateSpace(TestCase):
    def test_the_number_of_states_is_the_published_one(self):
        """The closed form of Krebs et al. 2015: a tempo has as many states as its beat has frames.

        The worked example is that of the method's reference implementation: beats of 1 to 4 frames have 10 states.
        """
        interval, position = states(1, 4)
        np.testing.assert_allclose(position / interval, [0, 0, 1 / 2, 0, 1 / 3, 2 / 3, 0, 1 / 4, 2 / 4, 3 / 4])
        # 55 to 214 beats a minute at 50 frames a second; a bar of four has four times as many
        self.assertEqual(len(states(14, 54)[0]), (14 + 54) * 41 // 2)
        self.assertEqual(4 * len(states(14, 54)[0]), 5576)

    def test_folded_to_a_step_a_beat_it_finds_the_same_beats(self):
        rng = np.random.default_rng(11)
        for _ in range(8):
            curve = rng.uniform(0, 1, 300) ** 3
            curve[rng.integers(0, 12) :: 17] += 0.8
            shortest, longest, middle = 12, 24, 60 * 100 / 17
            costs = TransitionCosts(hold=np.inf)  # the published model knows no held beats
            frames, score = decode(curve, 60 * 100 / longest, 60 * 100 / shortest, middle, costs)
            gaps = np.arange(shortest, longest + 1) / 100
            prior = 0.15 * (np.log(gaps * middle / 60) / np.log(1.25)) ** 2
            expected, best = best_path(curve - costs.beat, shortest, longest, prior, costs.change)
            self.assertAlmostEqual(score, best, places=8)
            self.assertEqual(frames.tolist(), expected)


def best_score(gain, shortest, prior, cost, hold, held):
    """The model as it is written down: every beat before is tried for every frame and interval."""
    score = np.full((len(gain), len(prior)), NEVER)
    for t in range(len(gain)):
        for i in range(len(prior)):
            interval = shortest + i
            if interval > t:
                continue
            before = t - interval
            ways = [gain[before], *(score[before] - cost[i])]
            ways = [w - prior[i] for w in ways]
            near, far = t - int(held[0] * interval), t - int(held[1] * interval)
            ways += [score[u, i] - hold for u in range(max(0, far), near + 1)]
            score[t, i] = gain[t] + max(ways)
    return score.max()


def best_score_of_manners(gain, shortest, prior, ends, costs, over):
    """Two manners of playing, written down: a beat goes on in its manner, or in the other at the same interval."""
    n, manners, m = len(gain), *prior.shape
    score = np.full((n, manners, m), NEVER)
    for t in range(n):
        for k in range(manners):
            for i in range(m):
                before = t - shortest - i
                if before >= 0:
                    ways = [gain[before] - ends[k, i], *(score[before, k] - costs[k][i])]
                    ways += [score[before, other, i] - over[other, k] for other in range(manners) if other != k]
                    score[t, k, i] = gain[t] - prior[k, i] + max(ways)
    return (score - ends).max()


class Manners(TestCase):
    def test_the_best_way_through_two_of_them(self):
        went_over = 0
        for seed in range(10):
            rng = np.random.default_rng(seed)
            gain = np.full(240, -1.0)
            even, uneven = np.arange(10, 130, 9), 130 + np.cumsum(rng.choice([7, 9, 12], 8))
            gain[np.concatenate([even, uneven])] = 2.0
            prior = tempo_prior(np.arange(7, 14), 9.0) + np.array([[0.0], [0.1]])
            costs = [transition_costs(7, 7, price) for price in (3.0, 0.1)]
            ends, over = np.array([[0.0], [0.4]]) + np.zeros(7), np.array([[0.0, 0.7], [0.2, 0.0]])
            shift, cost = np.zeros((2, 7), dtype=np.int64), np.stack([c.T for c in costs])
            frames, manner, score = best_manners(
                gain, np.arange(7, 14), shift, prior, ends, cost, over, np.inf, (2.0, 2.0)
            )
            self.assertAlmostEqual(score, best_score_of_manners(gain, 7, prior, ends, costs, over), places=9)
            self.assertEqual(len(frames), len(manner))
            went_over += len(set(manner.tolist())) > 1
        self.assertGreater(went_over, 3)


class HeldBeats(TestCase):
    def test_they_may_come_from_anywhere_in_their_window_however_long_the_take(self):
        held, longer = (1.6, 4.0), 0
        for seed in range(12):
            rng = np.random.default_rng(seed)
            # beats worth their price are rare, so that long ones pay, up to the longest
            gain = np.where(rng.random(300) < 0.04, 2.0, -3.0)
            prior, cost = tempo_prior(np.arange(7, 14), 9.0), transition_costs(7, 7, 1.5)
            frames, score = best_chain(gain, 7, prior, cost, hold=0.4, held=held)
            self.assertAlmostEqual(score, best_score(gain, 7, prior, cost, 0.4, held), places=9)
            longer += int((np.diff(frames) > 13).sum())
        self.assertGreater(longer, 7)
