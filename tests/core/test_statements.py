"""What the engineer has said holds, whatever is done after it."""

from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from core.document import BarLine, BarsHere, Document, Hold, MeterHere, MusicEnds, MusicStarts, Right, WithoutBeats
from core.document import commands as c
from core.document.statements import holds, words
from core.editing import Contradiction, apply
from core.tempomap import Meters
from core.tempomap.edits import EditError, pins_of, set_pin
from tests.core.editing import Silent, do, on, wandering


class Truth(TestCase):
    def setUp(self):
        self.map = wandering(meters=Meters.of((1, "4/4"), (5, "3/4"), (6, "4/4")))
        self.line = lambda bar: float(self.map.bar_seconds(bar))

    def test_each_kind_is_true_where_it_should_be_and_nowhere_else(self):
        end = float(self.map.seconds[-1])
        for true, false in (
            (BarLine(self.line(3)), BarLine(float(self.map.seconds[9]))),
            (BarLine(self.line(3) + 0.05, 3), BarLine(self.line(3), 4)),
            (BarsHere(self.line(2), self.line(7), 5), BarsHere(self.line(2), self.line(7), 4)),
            (MeterHere(self.line(5), "3/4", True), MeterHere(self.line(4), "3/4")),
            (MusicStarts(float(self.map.seconds[0])), MusicStarts(float(self.map.seconds[1]))),
            (MusicEnds(end), MusicEnds(end - 1)),
        ):
            self.assertTrue(holds(true, self.map), true)
            self.assertFalse(holds(false, self.map), false)
            self.assertTrue(words(true, self.map))
            self.assertTrue(words(true))

    def test_a_lock_holds_beats_lines_and_numbers(self):
        lock = Right.of(self.map, self.line(2), self.line(4))
        self.assertTrue(holds(lock, self.map))
        inside = float(self.map.seconds[6])
        later = do(on(self.map), c.Nudge(14, 0.01)).map
        self.assertTrue(holds(lock, later))
        for command in (c.Nudge(6, 0.001), c.Downbeat(1), c.Number(8, 2), c.Insert(inside + 0.25, free=True)):
            self.assertFalse(holds(lock, do(on(self.map), command).map), command)


class Refusals(TestCase):
    def test_a_command_against_a_statement_is_refused_by_the_names_of_both(self):
        tempo_map = wandering()
        said = do(on(tempo_map), c.MakeOne(8))
        with self.assertRaises(Contradiction) as refused:
            apply(c.Downbeat(1), said, Silent())
        self.assertIn("Downbeat 1 beat later", str(refused.exception))
        self.assertIn("Bar line at bar 3", str(refused.exception))
        overruled = apply(c.Downbeat(1), said, Silent(), overrule=True).document
        self.assertEqual(overruled.statements, ())

    def test_a_pinned_beat_stays_unless_it_is_the_one_that_is_moved(self):
        document = do(on(wandering()), c.Pin(9))
        for command in (c.Shift(0.01), c.ShiftByBeats(0.5), c.Rough(100, 2.0)):
            try:
                after = apply(command, document, Silent()).document.map
            except EditError:
                continue
            self.assertIn(float(document.map.seconds[9]), after.seconds[pins_of(after)].tolist(), command)
        moved = do(document, c.Nudge(9, 0.02), c.Nudge(9, 0.02))
        self.assertAlmostEqual(float(moved.map.seconds[9] - document.map.seconds[9]), 0.04)
        self.assertFalse(pins_of(do(document, c.Unpin((0.0, 30.0))).map).any())

    def test_what_changes_nothing_leaves_the_document_as_it_is(self):
        document = do(on(wandering()), c.MakeOne(8), c.Pin(4))
        again = do(document, c.MakeOne(8), c.Pin(4), c.Nudge(4, 0.0))
        self.assertEqual((again.map, again.statements), (document.map, document.statements))

    def test_a_newer_word_on_the_same_thing_takes_the_place_of_the_older(self):
        document = do(on(wandering()), c.SetMeter(3, "3/4", only=True), c.SetMeter(3, "5/4", only=True))
        self.assertEqual([s.meter for s in document.statements], ["5/4"])
        numbered = do(on(wandering()), c.Number(8, 2), c.MakeOne(4))
        self.assertEqual([s.number for s in numbered.statements], [2])


def statements(tempo_map, draw):
    """Statements that are true of a map."""
    beats = tempo_map.beats()
    bars = sorted({int(b) for b in beats.bar if 1 < b < tempo_map.bar_range[1] - 2})
    bar = draw(st.sampled_from(bars))
    more = draw(st.integers(1, 3))
    a, b = (float(t) for t in tempo_map.bar_seconds([bar, bar + more]))
    meter = tempo_map.meters.meter_at(bar).felt
    return draw(
        st.sampled_from(
            [
                BarLine(a),
                BarLine(a, bar),
                BarsHere(a, b, more),
                MeterHere(a, meter, True),
                Right.of(tempo_map, a, b),
                MusicStarts(float(beats.seconds[0])),
                MusicEnds(float(beats.seconds[-1])),
                Hold(a, float(beats.seconds[np.searchsorted(beats.seconds, a + 1e-6)])),
                WithoutBeats(a, b),
            ]
        )
    )


def command(tempo_map, draw):
    index = tempo_map.beats().index
    beat = draw(st.integers(int(index[1]), int(index[-2])))
    at = float(tempo_map.seconds_of_beat(beat))
    bar = draw(st.integers(2, max(3, tempo_map.bar_range[1] - 1)))
    ends = sorted(draw(st.lists(st.integers(int(index[0]), int(index[-1])), min_size=2, max_size=2, unique=True)))
    stretch = tuple(float(t) for t in tempo_map.seconds_of_beat(ends))
    some = draw(st.sampled_from([None, stretch]))
    reach = draw(st.sampled_from(["beat", "bend", "onward", "stretch", "whole"]))
    return draw(
        st.sampled_from(
            [
                c.Nudge(beat, draw(st.sampled_from([-0.03, 0.004, 0.02])), reach),
                c.SetTempo(beat, draw(st.sampled_from([90.0, 118.0, 140.0])), reach),
                c.Insert(at + 0.2, free=True, bars=draw(st.sampled_from([None, "stay", "count on"]))),
                c.Remove(beat, bars=draw(st.sampled_from([None, "stay", "count on"]))),
                c.HoldBeat(stretch, bars=draw(st.sampled_from([None, "stay", "count on"]))),
                c.Pin(beat),
                c.Approve(stretch),
                c.Downbeat(draw(st.sampled_from([-1, 1, 2]))),
                c.MakeOne(beat),
                c.Number(beat, bar),
                c.PlaceAt(at, bar, 1),
                c.SetMeter(bar, draw(st.sampled_from(["3/4", "5/4", "6/8"])), draw(st.booleans())),
                c.Count(bar, draw(st.sampled_from([2, 3, 5]))),
                c.Split(beat),
                c.Join(bar),
                c.AreBars(stretch, draw(st.integers(1, 4))),
                c.Ratio(draw(st.sampled_from(["1:2", "2:1", "3:2"])), stretch=some),
                c.Steady(some),
                c.Smooth(some),
                c.PointsEvery(1, some),
                c.Shift(0.01),
                c.ShiftByBeats(0.5),
                c.Starts(beat=int(index[2])),
                c.Ends(beat=int(index[-3])),
                c.Rough(110.0, 2.2),
            ]
        )
    )


class Property(TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.data())
    def test_statements_stay_true_through_any_commands(self, data):
        tempo_map = wandering(41, Meters.of((1, "4/4"), (4, "3/4"), (5, "4/4")), data.draw(st.integers(0, 5)))
        said = [statements(tempo_map, data.draw) for _ in range(data.draw(st.integers(1, 3)))]
        said = [s for s in dict.fromkeys(said) if holds(s, tempo_map)]
        document = Document(set_pin(tempo_map, 11, True), tuple(said))
        pin = float(tempo_map.seconds[11])
        for _ in range(data.draw(st.integers(1, 5))):
            one = command(document.map, data.draw)
            try:
                after = apply(one, document, Silent()).document
            except EditError:
                continue
            for s in document.statements:
                replaced = any(type(t) is type(s) for t in after.statements if t not in document.statements)
                self.assertTrue(replaced or holds(s, after.map), (one, s))
            moved = getattr(one, "beat", None) is not None or isinstance(one, c.PlaceAt)
            if not moved:
                self.assertLess(float(np.abs(after.map.seconds[pins_of(after.map)] - pin).min()), 1e-6, one)
                document = after
