"""Stretches played on the off-beats: the beats go on (core.tracking.off_beats)."""

from unittest import TestCase

import numpy as np

from core.tracking.decoder import decode
from core.tracking.off_beats import half_beat_jumps, keep_phase


def curve_of(beats, frames):
    """A decoding curve with a peak at each of ``beats`` (frames, not whole)."""
    t = np.arange(frames)[:, None]
    return np.exp(-(((t - np.asarray(beats)[None, :]) / 1.5) ** 2)).max(axis=1)


def take(off=(24, 44), gap=60.0, count=72):
    """True beats, and a curve that says "half-way between" for the beats from ``off[0]`` to ``off[1]``."""
    gaps = gap * (1 + 0.03 * np.sin(np.arange(count - 1) / 9))
    beats = 80 + np.concatenate([[0], np.cumsum(gaps)])
    late = np.zeros(count)
    late[off[0] : off[1]] = gap / 2
    return beats, curve_of(beats + late, int(beats[-1]) + 120)


def farthest(beats, frames):
    return max(np.min(np.abs(frames - b)) for b in beats)


class OffBeats(TestCase):
    def test_the_beats_go_on_through_a_break_on_the_off_beats(self):
        beats, curve = take()
        first, _ = decode(curve, 70, 140, 100)
        self.assertGreater(farthest(beats, first), 25, "the plain chain falls for it")
        self.assertGreaterEqual(len(half_beat_jumps(first)), 1)
        self.assertLess(farthest(beats, keep_phase(curve, first)), 6)

    def test_a_take_on_the_beat_stays_as_it_is(self):
        _, curve = take(off=(0, 0))
        first, _ = decode(curve, 70, 140, 100)
        np.testing.assert_array_equal(keep_phase(curve, first), first)

    def test_half_a_beat_lost_over_several_is_the_players(self):
        gaps = np.full(71, 60.0)
        gaps[20:25] += 6.0
        gaps[44:49] += 6.0
        beats = 80 + np.concatenate([[0], np.cumsum(gaps)])
        curve = curve_of(beats, int(beats[-1]) + 120)
        first, _ = decode(curve, 70, 140, 100)
        self.assertLess(farthest(beats, first), 3)
        np.testing.assert_array_equal(keep_phase(curve, first), first)

    def test_a_beat_that_was_pinned_there_is_the_engineers(self):
        beats, curve = take()
        pin = round(beats[30] + 30)
        first, _ = decode(curve, 70, 140, 100, pins=np.array([pin]))
        np.testing.assert_array_equal(keep_phase(curve, first, np.array([pin])), first)
        self.assertIn(pin, first)
