"""Meter changes that stay with the music when beats before them come or go."""

from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tempomap import Meter, MeterChange, Meters, TempoMap
from core.tempomap.counting import rescale
from core.tempomap.splice import splice

TEXTS = st.sampled_from(["2/4", "3/4", "4/4", "5/4", "6/8", "2+2+3/8", "12/8"])


@st.composite
def some_meters(draw):
    """One to four changes, some bars apart."""
    bars = np.cumsum([1, *draw(st.lists(st.integers(1, 9), min_size=0, max_size=3))])
    return Meters.of(*((int(bar), draw(TEXTS)) for bar in bars))


class Moved(TestCase):
    @settings(max_examples=150, deadline=None)
    @given(some_meters(), st.integers(-3, 6), st.data())
    def test_by_whole_bars_every_later_bar_keeps_its_length_and_place(self, meters, more, data):
        if len(meters.changes) < 2:
            return
        k = data.draw(st.integers(1, len(meters.changes) - 1))
        change, before = meters.changes[k], meters.changes[k - 1]
        more = max(more, before.bar + 1 - change.bar)
        opens = round(float(meters.beat_of_quarters(meters.bar_quarters(change.bar))))
        moved = meters.moved(opens, more * before.meter.beats)
        for bar in range(change.bar, change.bar + 12):
            self.assertEqual(moved.meter_at(bar + more), meters.meter_at(bar))
        on = float(moved.bar_quarters(change.bar + more) - meters.bar_quarters(change.bar))
        self.assertAlmostEqual(on, more * before.meter.quarters)

    def test_nothing_moves_nothing(self):
        meters = Meters.of((1, "4/4"), (5, "2/4"), (6, "4/4"))
        self.assertIs(meters.moved(8, 0), meters)
        self.assertIs(meters.moved(900, 4), meters)

    def test_what_changed_before_stays(self):
        meters = Meters.of((1, "4/4"), (3, "3/4"), (9, "2/4"), (10, "3/4"))
        moved = meters.moved(12, 6)
        self.assertEqual([c.bar for c in moved.changes], [1, 3, 11, 12])

    def test_two_odd_bars_keep_their_distance_however_the_beats_fall(self):
        meters = Meters.of((1, "4/4"), (9, "2/4"), (10, "4/4"), (13, "3/4"), (14, "4/4"))
        for by in range(-9, 10):
            bars = [c.bar for c in meters.moved(20, by).changes]
            self.assertEqual(np.diff(bars)[1:].tolist(), [1, 3, 1], by)

    def test_followed_begins_on_the_nearest_bar_line_and_after_the_last(self):
        meters = Meters.of((1, "4/4"))
        self.assertEqual(meters.followed(9, Meter(3)).changes[-1], MeterChange(3, Meter(3)))
        self.assertEqual(meters.followed(0, Meter(3)).changes[-1], MeterChange(2, Meter(3)))
        later = meters.followed(8, Meter(2), [MeterChange(1, Meter(4)), MeterChange(4, Meter(3))])
        self.assertEqual([c.bar for c in later.changes], [1, 3, 4, 7])


class OnTheMap(TestCase):
    """The same seen on a whole map: odd bars open at the same second, whatever happens before them."""

    def setUp(self):
        rng = np.random.default_rng(6)
        times = 1 + np.cumsum(0.5 + 0.01 * rng.standard_normal(90))
        self.map = TempoMap.from_beats(
            times, 0, Meters.of((1, "4/4"), (11, "3/4"), (12, "4/4"), (17, "2/4"), (18, "4/4"))
        )

    def odd(self, tempo_map):
        changes = tempo_map.meters.changes
        return [(c.meter.beats, float(tempo_map.bar_seconds(c.bar))) for c in changes[1:]]

    def test_doubled_and_halved_stretches(self):
        for times, over, first, last in ((2, 1, 4, 12), (1, 2, 8, 24), (3, 2, 8, 16), (3, 4, 0, 16)):
            self.assertEqual(self.odd(rescale(self.map, times, over, first, last)), self.odd(self.map))

    def test_a_bar_tapped_in_between(self):
        a, b = self.map.seconds[[12, 24]]
        self.assertEqual(self.odd(splice(self.map, np.linspace(a, b, 17))), self.odd(self.map))

    def test_and_there_and_back_is_the_same_map(self):
        there = rescale(self.map, 2, 1, 8, 24)
        self.assertEqual(rescale(there, 1, 2, 8, 40), self.map)
