"""Later bar lines stay where the number of beats changes before them, and the commands that lay bar lines."""

from unittest import TestCase

import numpy as np

from core.document import BarLine, BarsHere, Right
from core.document import commands as c
from core.editing import apply
from core.listening.rates import LISTENING_RATE
from core.tempomap import Meters
from core.tempomap.edits import EditError
from tests.core.editing import Analysed, Silent, Struck, do, lines, on, wandering
from tests.core.takes import tempo_map as made_map
from tests.core.takes import to_track
from tests.core.test_listening import strokes


class LaterLines(TestCase):
    def setUp(self):
        self.map = wandering()

    def test_a_beat_inserted_or_removed_leaves_them_and_gives_its_bar_the_new_count(self):
        middle = float(self.map.seconds[9:11].mean())
        for command, beats in ((c.Insert(middle, free=True), 5), (c.Remove(10), 3)):
            after = do(on(self.map), command).map
            self.assertEqual(lines(after), lines(self.map))
            self.assertEqual(after.meters.meter_at(3).beats, beats)
            self.assertEqual(after.meters.meter_at(4).beats, 4)

    def test_the_other_meaning_is_a_flip_away_and_leads_back(self):
        stays = apply(c.Remove(10), on(self.map), Silent())
        self.assertEqual(stays.flipped, c.Remove(10, bars="count on"))
        counted = apply(stays.flipped, on(self.map), Silent())
        self.assertEqual(counted.flipped, c.Remove(10, bars="stay"))
        self.assertEqual(len(counted.document.map.meters.changes), 1)
        self.assertNotEqual(lines(counted.document.map), lines(self.map))

    def test_a_removed_downbeat_hands_its_line_to_the_nearest_beat(self):
        after = do(on(self.map), c.Remove(12)).map
        kept = [t for t, bar in lines(self.map).items() if bar != 4]
        self.assertTrue(set(kept) <= set(lines(after)))
        self.assertEqual(len(lines(after)), len(lines(self.map)))

    def test_odd_bars_further_on_stay_what_they_are(self):
        tempo_map = wandering(meters=Meters.of((1, "4/4"), (9, "5/4"), (10, "4/4")))
        after = do(on(tempo_map), c.Insert(float(tempo_map.seconds[5:7].mean()), free=True)).map
        self.assertEqual(after.meters.meter_at(9).beats, 5)
        self.assertEqual(lines(after), lines(tempo_map))

    def test_half_the_tempo_in_a_stretch_counts_its_bars_anew_and_leaves_those_behind_it(self):
        a, b = (float(t) for t in self.map.bar_seconds([5, 9]))
        after = do(on(self.map), c.Ratio("1:2", stretch=(a, b))).map
        inside = after.beats()
        here = (inside.seconds >= a - 1e-6) & (inside.seconds < b - 1e-6)
        self.assertEqual(int(here.sum()), 8)
        self.assertEqual(int((inside.beat[here] == 1).sum()), 2)
        behind = [t for t in lines(self.map) if t >= b - 1e-6]
        self.assertTrue(set(behind) <= set(lines(after)))


class CountedBars(TestCase):
    def test_one_bar_over_a_five_four_is_one_four_four_and_the_beats_beside_it_stay(self):
        """A hold was counted through: a bar of 5 where one of 4 with a long last beat was played."""
        tempo_map = wandering(66, Meters.of((1, "4/4"), (5, "5/4"), (6, "4/4")))
        a, b = (float(t) for t in tempo_map.bar_seconds([5, 6]))
        after = do(on(tempo_map), c.AreBars((a, b), 1)).map
        self.assertEqual(len(after.meters.changes), 1)
        before, now = tempo_map.beats().seconds, after.beats().seconds
        for t in before[(before < a - 1e-6) | (before > b + 1e-6)]:
            self.assertLess(float(np.abs(now - t).min()), 1e-9)
        self.assertEqual(len(now), len(before) - 1)
        self.assertEqual(lines(after), lines(tempo_map))

    def test_bars_before_the_first_that_the_map_has(self):
        tempo_map = wandering()
        a = float(tempo_map.seconds[0])
        after = do(on(tempo_map), c.AreBars((a, float(tempo_map.bar_seconds(3))), 2))
        self.assertEqual(list(lines(after.map).items())[2:], list(lines(tempo_map).items())[2:])
        self.assertEqual(after.statements, (BarsHere(a, float(tempo_map.bar_seconds(3)), 2),))


class BeatOne(TestCase):
    def test_all_lines_two_beats_off_are_right_after_one_command(self):
        right = wandering(first=0)
        wrong = right.with_points(right.seconds, right.meters.quarters_of_beat(np.arange(65) - 2))
        beat = round(float(wrong.beat_index_at(right.bar_seconds(5))))
        after = do(on(wrong), c.MakeOne(beat)).map
        self.assertEqual(lines(after), lines(right))

    def test_lines_that_were_said_before_stay_and_the_bar_between_is_odd(self):
        document = do(on(wandering()), c.MakeOne(8), c.MakeOne(33))
        made = lines(document.map)
        for beat in (0, 4, 8, 12, 28, 33, 37):
            self.assertIn(round(float(document.map.seconds[beat]), 6), made)
        again = do(document, c.MakeOne(22))
        made = lines(again.map)
        for beat in (8, 22, 26, 33, 37):
            self.assertIn(round(float(document.map.seconds[beat]), 6), made)

    def test_a_bar_gets_its_number_and_odd_bars_keep_their_place(self):
        tempo_map = wandering(meters=Meters.of((1, "4/4"), (9, "5/4"), (10, "4/4")))
        beat = round(float(tempo_map.beat_index_at(tempo_map.bar_seconds(6))))
        after = do(on(tempo_map), c.Number(beat, 4)).map
        self.assertEqual(after.meters.meter_at(7).beats, 5)
        moved = {t: bar - 2 for t, bar in lines(tempo_map).items()}
        self.assertEqual({t: b for t, b in lines(after).items() if b > 0}, {t: b for t, b in moved.items() if b > 0})


class Placing(TestCase):
    def test_the_attack_at_the_playhead_becomes_that_beat_of_that_bar(self):
        tempo_map = wandering()
        at = float(tempo_map.seconds[20])
        document = do(on(tempo_map), c.PlaceAt(at + 0.02, 5, 1), recording=Struck([at + 0.03]))
        self.assertAlmostEqual(float(document.map.bar_seconds(5)), at + 0.03, places=9)
        self.assertEqual(document.statements, (BarLine(at + 0.03, 5),))

    def test_beats_since_the_last_thing_that_was_said_are_counted_to_fit(self):
        document = do(on(wandering()), c.MakeOne(8), c.Pin(8))
        at = float(document.map.seconds[21])  # bar 6 beat 2 by the map, but bar 6 really opens here
        after = do(document, c.PlaceAt(at, 6))
        self.assertAlmostEqual(float(after.map.bar_seconds(6)), at, places=9)
        self.assertEqual(float(after.map.bar_seconds(3)), float(document.map.bar_seconds(3)))
        with self.assertRaisesRegex(EditError, "was said to be"):
            do(document, c.PlaceAt(at, 3))

    def test_what_lies_before_the_mapped_music_becomes_part_of_it(self):
        tempo_map = wandering(first=-1)
        at = float(tempo_map.seconds[0]) - 1.3
        after = do(on(tempo_map), c.PlaceAt(at, 1)).map
        self.assertAlmostEqual(float(after.bar_seconds(1)), at, places=9)
        self.assertLess(set(tempo_map.seconds[10:].tolist()), set(after.seconds.tolist()))

    def test_a_bar_that_has_no_such_beat_is_refused(self):
        with self.assertRaisesRegex(EditError, "no beat 5"):
            do(on(wandering()), c.PlaceAt(9.0, 4, 5))


class Bending(TestCase):
    def test_neighbours_give_way_smoothly_and_pins_do_not(self):
        document = do(on(wandering()), c.Pin(12))
        after = do(document, c.Nudge(18, 0.06, "bend")).map
        by = after.seconds - document.map.seconds
        self.assertAlmostEqual(by[18], 0.06, places=9)
        self.assertTrue((by[:13] == 0).all() and (by[26:] == 0).all())
        self.assertTrue((np.diff(by[12:19]) > 0).all() and (np.diff(by[18:26]) < 0).all())

    def test_onward_stops_at_a_lock(self):
        tempo_map = wandering()
        lock = Right.of(tempo_map, float(tempo_map.bar_seconds(9)), float(tempo_map.bar_seconds(11)))
        after = do(on(tempo_map, lock), c.Nudge(10, 0.03, "onward")).map
        by = after.seconds - tempo_map.seconds
        self.assertTrue((by[:10] == 0).all() and (by[32:] == 0).all())
        np.testing.assert_allclose(by[10:32], 0.03, atol=1e-9)


class WithTracks(TestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.truth = made_map(118 + 6 * np.sin(np.arange(96) / 9), Meters())
        b = cls.truth.beats()
        rate = LISTENING_RATE
        x = sum(strokes(b.seconds[k::4], rate, b.seconds[-1] + 1, 0.9 if k == 0 else 0.6) for k in range(4))
        cls.recording = Analysed([to_track("kit", x)])

    def test_beats_settle_on_attacks_and_their_number_stays(self):
        off = self.truth.with_points(
            self.truth.seconds + 0.03 * np.sin(np.arange(len(self.truth.seconds))), self.truth.quarters
        )
        after = apply(c.Settle(), on(off), self.recording)
        self.assertEqual(len(after.document.map.seconds), len(off.seconds))
        self.assertLess(float(np.median(np.abs(after.document.map.seconds - self.truth.seconds))), 0.004)
        self.assertRegex(after.name, r"Settled on attacks: \d+ of 96 moved, \d+ ms at most")

    def test_twelve_taps_on_bar_lines_are_twelve_bars(self):
        taps = self.truth.bar_seconds(np.arange(3, 15)) + np.random.default_rng(1).normal(0.03, 0.012, 12)
        laid = do(on(None), c.Tap(tuple(taps.tolist()), "4/4"), recording=self.recording).map
        self.assertEqual(laid.bar_range, (1, 12))
        np.testing.assert_allclose(
            laid.bar_seconds(np.arange(1, 13)), self.truth.bar_seconds(np.arange(3, 15)), atol=0.03
        )
        over = do(on(self.truth), c.Tap(tuple(taps.tolist()), "4/4"), recording=self.recording).map
        self.assertEqual(len(over.meters.changes), 1)
        self.assertEqual(over.bar_range, self.truth.bar_range)

    def test_detecting_again_keeps_the_lines_behind_it(self):
        spoiled = do(on(self.truth), c.Remove(30), c.Remove(33)).map
        a, b = (float(t) for t in self.truth.bar_seconds([6, 12]))
        after = do(on(spoiled), c.Redetect((a, b)), recording=self.recording).map
        behind = {t for t in lines(self.truth) if t >= b - 1e-6}
        self.assertTrue(behind <= set(lines(after)))


class NoHalfBeats(TestCase):
    def test_detecting_again_never_goes_over_to_the_off_beats_between_two_beats_that_are_right(self):
        """Loud off-beats for some bars: between beats that stay, they are not taken for the beats."""
        truth = made_map(np.full(64, 110.0), Meters())
        b = truth.beats()
        off = (b.seconds[20:40] + b.seconds[21:41]) / 2
        rate = LISTENING_RATE
        x = strokes(b.seconds[:20], rate, b.seconds[-1] + 1, 0.7) + strokes(off, rate, b.seconds[-1] + 1, 0.9)
        x = x + strokes(b.seconds[40:], rate, b.seconds[-1] + 1, 0.7)
        x = x + strokes(b.seconds[20:40], rate, b.seconds[-1] + 1, 0.2)
        after = do(
            on(truth), c.Redetect((float(b.seconds[20]), float(b.seconds[40]))), recording=Analysed([to_track("k", x)])
        ).map
        self.assertEqual(len(after.beats()), len(b))
        self.assertLess(float(np.abs(after.beats().seconds - b.seconds).max()), 0.1)
