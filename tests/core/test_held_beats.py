"""A stretch is said to be one held beat: the beats inside it go, and stay away."""

from unittest import TestCase

import numpy as np

from core.document import BarsHere, Hold
from core.document import commands as c
from core.document.statements import holds, words
from core.editing import Contradiction, apply
from core.editing.obeying import obeying
from core.editing.search_options import search_options
from core.listening.rates import LISTENING_RATE
from core.tempomap import Meters, TempoMap
from core.tempomap.edits import EditError
from core.tracking.results import TrackingOptions
from tests.core.editing import Analysed, Silent, do, lines, on, wandering
from tests.core.takes import to_track
from tests.core.test_listening import strokes


class HeldBeats(TestCase):
    def setUp(self):
        # the last beat of bar 5 is held for three: a bar of 6 was counted
        self.map = wandering(67, Meters.of((1, "4/4"), (5, "6/4"), (6, "4/4")))
        start = round(float(self.map.beat_index_at(self.map.bar_seconds(5))))
        self.hold = tuple(self.map.seconds_of_beat(np.array([start + 3, start + 6])).tolist())
        self.command = c.HoldBeat(self.hold)

    def test_the_beats_inside_go_and_nothing_else_moves(self):
        document = do(on(self.map), self.command)
        seconds = self.map.beats().seconds
        inside = (seconds > self.hold[0] + 1e-6) & (seconds < self.hold[1] - 1e-6)
        self.assertEqual(int(inside.sum()), 2)
        np.testing.assert_array_equal(document.map.beats().seconds, seconds[~inside])
        self.assertEqual(lines(document.map), lines(self.map))
        self.assertEqual(document.map.meters.meter_at(5).beats, 4)
        self.assertEqual(document.statements, (Hold(*self.hold),))
        self.assertIn("held beat in bar 5", words(document.statements[0], document.map))

    def test_bars_may_count_on_behind_it(self):
        through = wandering(67)
        stays = apply(self.command, on(through), Silent())
        self.assertEqual(stays.flipped, c.HoldBeat(self.hold, bars="count on"))
        counted = apply(stays.flipped, on(through), Silent()).document.map
        self.assertEqual(len(counted.meters.changes), 1)

    def test_one_beat_that_is_long_already_is_only_said(self):
        beats = self.map.beats().seconds
        document = do(on(self.map), c.HoldBeat((beats[9], beats[10])))
        np.testing.assert_array_equal(document.map.beats().seconds, beats)
        self.assertEqual(document.statements, (Hold(beats[9], beats[10]),))

    def test_a_longer_hold_takes_the_place_of_a_shorter_one(self):
        beats = self.map.beats().seconds
        document = do(on(self.map), self.command)
        longer = (float(beats[beats < self.hold[0] - 0.1][-1]), self.hold[1])
        document = do(document, c.HoldBeat((beats[50], beats[52])), c.HoldBeat(longer))
        self.assertEqual(document.statements, (Hold(beats[50], beats[52]), Hold(*longer)))

    def test_a_beat_put_inside_contradicts_it_and_takes_it_back_when_meant(self):
        document = do(on(self.map), self.command)
        insert = c.Insert(sum(self.hold) / 2, free=True)
        with self.assertRaisesRegex(Contradiction, "held beat in bar 5"):
            apply(insert, document, Silent())
        self.assertEqual(apply(insert, document, Silent(), overrule=True).document.statements, ())

    def test_its_ends_may_be_moved(self):
        document = do(on(self.map), self.command)
        beat = round(float(document.map.beat_index_at(self.hold[0])))
        moved = do(document, c.Move(beat, self.hold[0] + 0.1, free=True))
        self.assertEqual(moved.statements, (Hold(*self.hold),))

    def test_too_small_a_map_or_stretch_is_refused(self):
        seconds = self.map.beats().seconds
        for stretch in ((seconds[0], seconds[-1]), (seconds[5], seconds[5] + 0.01)):
            with self.assertRaises(EditError):
                do(on(self.map), c.HoldBeat(stretch))

    def test_what_a_search_finds_obeys_it(self):
        said = Hold(*self.hold)
        for found in (self.map, wandering(67), TempoMap.from_beats(self.map.beats().seconds + 0.03)):
            made = obeying(Silent(), on(found, said), [])
            self.assertTrue(holds(said, made))
            self.assertEqual(len(made.beats()), len(found.beats()) - 2)
        self.assertLessEqual(set(self.hold), set(search_options(TrackingOptions(), on(self.map, said)).pins))

    def test_bars_counted_over_it_have_no_beat_inside(self):
        """A bar of four whose last beat is held, amid strokes inside the hold."""
        struck = strokes(1 + 0.5 * np.arange(42), LISTENING_RATE)
        recording, hold = Analysed([to_track("drums", struck)]), (12.0, 13.5)
        bar = c.AreBars((10.5, 13.5), 1)
        document = on(TempoMap.from_beats(1 + 0.5 * np.arange(42)))
        evenly, held = do(document, bar, recording=recording), do(document, c.HoldBeat(hold), bar, recording=recording)
        self.assertEqual(held.statements, (Hold(*hold), BarsHere(10.5, 13.5, 1)))

        def inside(document):
            beats = document.map.beats().seconds
            return beats[(beats > 10.49) & (beats < 13.51)]

        np.testing.assert_allclose(inside(held), [10.5, 11, 11.5, 12, 13.5], atol=0.02)
        self.assertGreater(np.abs(inside(evenly) - inside(held)).max(), 0.4)
