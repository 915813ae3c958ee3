"""A new search keeps what the engineer said of the beats, and what was done to the whole take."""

from unittest import TestCase

import numpy as np

from core.document import BarsHere, Document, Right, WithoutBeats
from core.document.commands import AreBars, Ratio
from core.editing import apply
from core.editing.search_options import search_options, with_kept_downbeats
from core.tempomap import Meter, Meters, TempoMap, reach
from core.tempomap.counting import rescale
from core.tempomap.edits import pins_of, remove_beat, shift_downbeat
from core.tempomap.pulses import pulse_of
from core.tracking.beat_tracker import track_beats
from core.tracking.results import TrackingOptions
from tests.core import takes
from tests.core.editing import Analysed, on, wandering

USUAL = TrackingOptions()


def even(bpm, beats=64, meters=None):
    return TempoMap.from_beats(2 + 60 / bpm * np.arange(beats), 0, meters or Meters())


def tempo(document, searches=(), options=USUAL):
    return search_options(options, document, searches).tempo


class WhatWasSaid(TestCase):
    def setUp(self):
        self.map = wandering()
        self.beats = self.map.beats().seconds

    def test_pins_locks_and_stretches_without_beats(self):
        lock = Right.of(self.map, self.beats[8], self.beats[16])
        pins = np.isin(np.arange(len(self.map.seconds)), [40])
        pinned = self.map.with_points(self.map.seconds, self.map.quarters, pins)
        said = search_options(USUAL, on(pinned, lock, WithoutBeats(3.0, 4.0)))
        self.assertEqual(said.pins, sorted({*lock.seconds, float(self.map.seconds[40])}))
        self.assertEqual(said.known, [lock.seconds])
        self.assertEqual(said.no_beats, [(3.0, 4.0)])
        np.testing.assert_array_equal(said.fixed, said.pins)

    def test_counted_stretches_and_pinned_neighbours_are_known_beats(self):
        a, b = float(self.map.bar_seconds(3)), float(self.map.bar_seconds(5))
        pins = np.isin(np.arange(len(self.map.seconds)), [30, 31, 32, 33, 50, 51])
        pinned = self.map.with_points(self.map.seconds, self.map.quarters, pins)
        known = search_options(USUAL, on(pinned, BarsHere(a, b, 2))).known
        self.assertEqual(known, [tuple(self.beats[8:17]), tuple(self.beats[30:34])])

    def test_the_tempo_follows_from_known_beats(self):
        low, high = tempo(on(self.map, Right.of(self.map, self.beats[8], self.beats[16])))
        bpm = 60 / np.diff(self.beats[8:17])
        self.assertTrue(bpm.max() / 2 < low < bpm.min() < bpm.max() < high < bpm.min() * 2, (low, high))

    def test_nothing_said_leaves_the_usual_range(self):
        self.assertEqual(tempo(Document(self.map)), USUAL.tempo)
        self.assertEqual(tempo(Document(self.map), [(self.map, self.map)]), USUAL.tempo)
        self.assertEqual(tempo(Document(None)), USUAL.tempo)

    def test_the_range_that_the_engineer_named_goes_first(self):
        lock = Right.of(self.map, self.beats[8], self.beats[16])
        named = TrackingOptions((150.0, 200.0))
        self.assertEqual(tempo(on(self.map, lock), options=named), (150.0, 200.0))
        low, high = tempo(on(self.map, lock), options=TrackingOptions((110.0, 200.0)))
        self.assertEqual(low, 110.0)
        self.assertLess(high, 200.0)

    def test_dotted_beats_keep_the_tempo_of_their_quarters_in_the_range(self):
        dotted = even(60, meters=Meters.of((1, "6/8")))
        low, high = tempo(on(dotted, Right.of(dotted, 2.0, 12.0)))
        self.assertTrue(low < 60 and high > 90, (low, high))

    def test_another_meter_that_was_named_is_found_anew(self):
        lock = on(self.map, Right.of(self.map, self.beats[8], self.beats[16]))
        for meter, known in (("4/4", 1), ("5/8", 0), ("2+2+3/8", 0)):
            said = search_options(TrackingOptions(meter=Meter.parse(meter)), lock)
            self.assertEqual(len(said.known), known, meter)
            self.assertEqual(len(said.pins), 9)

    def test_a_map_of_two_beats_tells_nothing(self):
        short = TempoMap.from_beats([1.0, 2.0])
        said = search_options(USUAL, Document(short), [(short, short)])
        self.assertEqual((said.tempo, said.known, said.refused), (USUAL.tempo, (), ()))
        self.assertIs(with_kept_downbeats(self.map, short, [(self.map, short)]), self.map)


class WhatWasDoneToTheWholeTake(TestCase):
    def setUp(self):
        self.found = even(160)
        self.half = rescale(self.found, 1, 2)

    def test_another_level_is_kept(self):
        low, high = tempo(Document(self.half), [(self.found, self.half)])
        self.assertTrue(40 < low < 80 < high < 160, (low, high))

    def test_it_is_kept_by_the_search_after_the_next_too(self):
        twice = [(self.found, self.half), (self.half, self.half)]
        self.assertLess(tempo(Document(self.half), twice)[1], 160)

    def test_who_goes_back_gets_the_other_one(self):
        back = [(self.found, self.half), (self.half, self.found)]
        self.assertGreater(tempo(Document(self.found), back)[0], 80)

    def test_a_level_that_no_longer_stands_is_forgotten(self):
        self.assertEqual(tempo(Document(self.found), [(self.found, self.half), (self.found, self.found)]), USUAL.tempo)

    def refused(self, now, *searches):
        """Beats of the first search that are refused for the map as it is now."""
        beats = self.found.beats().seconds
        stretches = search_options(USUAL, Document(now), searches).refused
        return [k for k, t in enumerate(beats) if any(a < t < b for a, b in stretches)]

    def test_beats_that_edits_took_away_are_refused(self):
        late = reach.shift_by_beats(self.found, 0.5)
        self.assertEqual(self.refused(late, (self.found, late), (late, late)), list(range(1, 64)))
        self.assertEqual(self.refused(self.half, (self.found, self.half)), list(range(1, 63, 2)))
        one = remove_beat(self.found, 20)
        self.assertEqual(self.refused(one, (self.found, one)), [20])

    def test_what_is_a_beat_again_is_not_refused(self):
        self.assertEqual(self.refused(self.found, (self.found, self.half), (self.half, self.found)), [])
        self.assertEqual(self.refused(self.found, (self.found, self.found)), [])

    def test_who_asks_for_another_tempo_gets_it_with_all_its_beats(self):
        half, searches = Document(self.half), [(self.found, self.half)]
        said = search_options(TrackingOptions((120.0, 200.0)), half, searches)
        self.assertEqual((said.tempo, said.refused), ((120.0, 200.0), ()))
        self.assertTrue(search_options(TrackingOptions((60.0, 120.0)), half, searches).refused)

    def test_moved_downbeats_are_moved_in_what_is_found_anew(self):
        for by in (1, 2, -1):
            with self.subTest(by):
                moved = shift_downbeat(self.found, by)
                again = with_kept_downbeats(even(160, 60), moved, [(self.found, moved)])
                lines = again.beats().seconds[again.beats().beat == 1]
                had = moved.beats().seconds[moved.beats().beat == 1]
                self.assertLessEqual(set(lines.round(6)), set(had.round(6)))
        for unmoved in ([], [(self.found, self.found)], [(self.found, self.half)]):
            self.assertIs(with_kept_downbeats(self.found, self.found, unmoved), self.found)

    def test_uneven_meters_are_left_alone(self):
        meter = Meters.of((1, "2+2+3/8")).meter_at(1)
        uneven = even(240, meters=Meters.of((1, meter.felt)))
        said = search_options(USUAL, Document(uneven), [(self.found, uneven)])
        self.assertEqual((said.tempo, said.known, said.refused), (USUAL.tempo, (), ()))
        self.assertIs(with_kept_downbeats(self.found, uneven, [(self.found, uneven)]), self.found)
        self.assertEqual(pulse_of(meter).beats, 7)


class Searches(TestCase):
    """The same, heard: a band at 104 that is found at 104."""

    @classmethod
    def setUpClass(cls):
        truth = takes.tempo_map(takes.drift(97, 104), Meters.of((1, "4/4")))
        cls.made = takes.record(truth, takes.groove(truth, 24))
        cls.found = track_beats(cls.made.tracks).map

    def again(self, document, searches=None):
        searches = [(self.found, document.map)] if searches is None else searches
        options = search_options(USUAL, document, searches)
        return with_kept_downbeats(track_beats(self.made.tracks, options).map, document.map, searches)

    def test_half_the_tempo_stays_half(self):
        half = apply(Ratio("1:2"), Document(self.found), Analysed(self.made.tracks)).document
        again = self.again(half)
        self.assertAlmostEqual(np.median(np.diff(again.beats().seconds)), 120 / 104, delta=0.06)

    def test_off_beats_stay_the_beats(self):
        named = TrackingOptions((40.0, 80.0))
        found = track_beats(self.made.tracks, named).map
        late = reach.shift_by_beats(found, 0.5)
        again = track_beats(self.made.tracks, search_options(named, Document(late), [(found, late)])).map
        beats = late.beats().seconds
        near = np.abs(again.beats().seconds[:, None] - beats[None, :]).min(axis=1)
        self.assertGreater((near < 0.06).mean(), 0.9)

    def test_two_bars_that_were_counted_decide_the_level(self):
        beats = self.found.beats().seconds
        said = AreBars((float(beats[8]), float(beats[24])), 2)
        document = apply(said, Document(self.found), Analysed(self.made.tracks)).document
        again = self.again(document, [])
        self.assertAlmostEqual(np.median(np.diff(again.beats().seconds)), 120 / 104, delta=0.06)
        inside = document.map.beats().seconds
        inside = inside[(inside >= beats[8]) & (inside <= beats[24])]
        self.assertLessEqual(set(inside), set(again.beats().seconds))
        self.assertFalse(pins_of(self.found).any())
