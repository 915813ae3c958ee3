"""The tempo map: conversions, positions, meters, and the trade's own arithmetic."""

from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tempomap import MapError, Meter, Meters, Position, TempoMap, position_at

METERS = st.sampled_from(["2/4", "3/4", "4/4", "5/4", "6/8", "2+2+3/8", "9/8", "12/8", "3+2/8"])


@st.composite
def maps(draw, least=12):
    """Any take: felt beats of 0.25 to 1.4 s, up to three meters, with or without a pickup."""
    gaps = draw(st.lists(st.floats(0.25, 1.4), min_size=least, max_size=60))
    start = draw(st.floats(0, 20))
    first = draw(st.integers(-3, 0))
    texts = draw(st.lists(METERS, min_size=1, max_size=3))
    bars = sorted(draw(st.sets(st.integers(2, 9), min_size=len(texts) - 1, max_size=len(texts) - 1)))
    meters = Meters.of(*zip([1, *bars], texts, strict=True))
    return TempoMap.from_beats(start + np.concatenate([[0], np.cumsum(gaps)]), first, meters)


class TradeFacts(TestCase):
    """Common practice: what every engineer reckons in the head."""

    def test_eight_bars_of_four_four_at_120_last_16_seconds(self):
        m = TempoMap.steady(120, Meters.of((1, "4/4")))
        self.assertEqual(float(m.bar_seconds(9) - m.bar_seconds(1)), 16.0)

    def test_four_bars_of_three_four_at_90_last_8_seconds(self):
        m = TempoMap.steady(90, Meters.of((1, "3/4")))
        self.assertEqual(float(m.bar_seconds(5) - m.bar_seconds(1)), 8.0)

    def test_six_eight_at_60_felt_beats_is_90_quarters_a_minute(self):
        m = TempoMap.from_beats(np.arange(13.0), 0, Meters.of((1, "6/8")))  # a felt beat a second
        self.assertAlmostEqual(float(m.bpm_at(3.3)), 90)
        self.assertEqual(m.meters.meter_at(1).beats, 2)

    def test_seven_eight_is_felt_two_two_three(self):
        self.assertEqual(Meter.parse("7/8").groups, (2, 2, 3))
        self.assertEqual(Meter.parse("7/8").beats, 3)

    def test_a_beat_at_120_is_half_a_second_and_a_960th_tick_of_it_half_a_millisecond(self):
        m = TempoMap.steady(120)
        self.assertEqual(position_at(m, 0.5 + 0.5 / 960), Position(1, 2, 1))


class Conversions(TestCase):
    @given(maps(), st.lists(st.floats(-30, 200), min_size=1, max_size=20))
    @settings(deadline=None)
    def test_seconds_to_quarters_and_back(self, m, times):
        np.testing.assert_allclose(m.seconds_at(m.quarters_at(times)), times, atol=1e-9)

    @given(maps(), st.lists(st.floats(-30, 200), min_size=2, max_size=20, unique=True))
    @settings(deadline=None)
    def test_later_is_further(self, m, times):
        times = np.sort(times)
        self.assertTrue((np.diff(m.quarters_at(times))[np.diff(times) > 1e-6] > 0).all())

    @given(maps(), st.floats(-10, 90))
    @settings(deadline=None)
    def test_scalar_and_vector_agree_bit_for_bit(self, m, t):
        self.assertEqual(float(m.quarters_at(t)), float(m.quarters_at(np.array([t, t]))[1]))

    @given(maps(), st.lists(st.integers(-12, 120), min_size=1, max_size=30))
    @settings(deadline=None)
    def test_beat_indices_to_quarters_and_back(self, m, index):
        np.testing.assert_allclose(m.meters.beat_of_quarters(m.meters.quarters_of_beat(index)), index, atol=1e-9)

    @given(maps(), st.integers(-3, 14))
    @settings(deadline=None)
    def test_bar_lines_open_their_bar(self, m, bar):
        self.assertEqual(int(m.meters.bars_at(m.meters.bar_quarters(bar))), bar)

    @given(maps())
    @settings(deadline=None)
    def test_every_beat_is_counted_once_and_in_order(self, m):
        b = m.beats()
        for i in range(1, len(b)):
            if b.beat[i] == 1:
                self.assertEqual(b.bar[i], b.bar[i - 1] + 1)
                self.assertEqual(b.beat[i - 1], m.meters.meter_at(int(b.bar[i - 1])).beats)
            else:
                self.assertEqual((b.bar[i], b.beat[i]), (b.bar[i - 1], b.beat[i - 1] + 1))

    @given(maps())
    @settings(deadline=None)
    def test_positions_name_the_beats(self, m):
        b = m.beats()
        for i in range(0, len(b), 5):
            at = position_at(m, float(b.seconds[i]))
            self.assertEqual((at.bar, at.beat, at.tick), (b.bar[i], b.beat[i], 0))

    @given(maps())
    @settings(deadline=None)
    def test_json_keeps_every_bit(self, m):
        import json

        again = TempoMap.from_json(json.loads(json.dumps(m.to_json())))
        self.assertEqual(again, m)
        self.assertTrue((again.seconds == m.seconds).all() and (again.quarters == m.quarters).all())


class Refusals(TestCase):
    def test_a_map_needs_two_rising_points(self):
        for seconds, quarters in (([1.0], [0.0]), ([1, 1], [0, 1]), ([1, 2], [1, 1]), ([0, np.nan], [0, 1])):
            with self.assertRaises(MapError):
                TempoMap(np.array(seconds, float), np.array(quarters, float))

    def test_meters_that_are_none(self):
        for text in ("", "x", "0/4", "4/3", "2+2/", "65/4"):
            with self.assertRaises(ValueError, msg=text):
                Meter.parse(text)
        with self.assertRaises(ValueError):
            Meter(7, 8, (3, 3))

    def test_values_cannot_be_changed(self):
        with self.assertRaises(ValueError):
            TempoMap.steady(100).seconds[0] = 3
