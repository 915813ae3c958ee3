"""Remedies are tried before they are offered, and what was said settles doubts."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from core.document import BarLine, BarsHere
from core.document import commands as c
from core.editing import apply
from core.editing.remedies import trusted
from core.tempomap import Meters, TempoMap
from core.tempomap.counting import rescale
from core.tempomap.edits import shift_downbeat
from core.tempomap.splice import between
from core.tracking.decoder import decode
from core.tracking.doubts.doubt import LISTEN, WRONG, Doubt, Remedy
from core.tracking.doubts.settled import Settlement, is_settled
from core.tracking.fit import bars_fit, beats_fit, fit
from core.tracking.parameters import USUAL_RANGE
from core.tracking.review import review
from tests.core import takes
from tests.core.editing import Analysed, do, lines, on, wandering
from tests.core.test_situations import band


class Tried(TestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        truth, parts = band(bpm=104, bars=26)
        cls.truth, cls.recording = truth, Analysed(takes.record(truth, parts).tracks)

    def offered(self, tempo_map, *statements):
        doubts = review(self.recording.context(), tempo_map, USUAL_RANGE)[1]
        return doubts, trusted(doubts, on(tempo_map, *statements), self.recording, USUAL_RANGE)

    def test_the_true_map_fits_better_than_spoiled_ones(self):
        context = self.recording.context()
        for spoiled in (
            do(on(self.truth), c.Remove(40, bars="count on")).map,
            do(on(self.truth), c.Insert(float(self.truth.seconds[40:42].mean()), free=True)).map,
            do(on(self.truth), c.Downbeat(1)).map,
            do(on(self.truth), c.ShiftByBeats(0.5)).map,
        ):
            self.assertLess(fit(context, spoiled), fit(context, self.truth) - 5)
        self.assertLess(bars_fit(context, do(on(self.truth), c.Downbeat(1)).map), bars_fit(context, self.truth))
        self.assertLess(beats_fit(context, do(on(self.truth), c.ShiftByBeats(0.5)).map), beats_fit(context, self.truth))

    def test_a_map_is_judged_as_it_is_found_with_a_hold_as_one_price(self):
        gaps = np.full(24, 50)
        gaps[10] = 115
        beats = np.cumsum([100, *gaps])
        curve = np.zeros(beats[-1] + 100)
        curve[beats] = 1.0
        found, score = decode(curve, 80, 180, 120)
        np.testing.assert_array_equal(found, beats)
        context = replace(self.recording.context(), decoding_curve=curve)
        self.assertAlmostEqual(beats_fit(context, TempoMap.from_beats(beats / 100)), score, places=9)

    def test_double_tempo_is_offered_half_and_taking_it_ends_the_doubt(self):
        doubled = do(on(self.truth), c.Ratio("2:1"), recording=self.recording).map
        _, tried = self.offered(doubled)
        remedies = [r for d in tried if d.kind == "level" for r in d.remedies]
        self.assertEqual([r.command for r in remedies], [c.Ratio("1:2")])
        halved = apply(remedies[0].command, on(doubled), self.recording).document.map
        self.assertEqual([d for d in self.offered(halved)[1] if d.kind == "level" and d.remedies], [])

    def test_half_the_tempo_keeps_the_beats_that_fit_but_for_a_bar_1_of_the_engineers_own(self):
        doubled = rescale(self.truth, 2, 1)
        between = shift_downbeat(doubled, 1)
        for found, commands, expected in (
            (doubled, [c.Ratio("1:2")], 0.0),
            (doubled, [c.Ratio("1:2", others=True)], 0.5),
            (between, [c.Ratio("1:2")], 0.0),  # the search began bar 1 between the beats
            (between, [c.Ratio("1:2", others=True)], 0.5),
            (doubled, [c.Downbeat(1), c.Ratio("1:2")], 0.5),  # the engineer put bar 1 there
            (doubled, [c.Ratio("1:2", others=True), c.Ratio("2:1"), c.Ratio("1:2")], 0.5),
            (None, [c.Downbeat(1), c.Ratio("1:2")], 0.5),
        ):
            recording = Analysed(self.recording.tracks)
            recording.found = found
            halved = do(on(found or doubled), *commands, recording=recording).map.beats().seconds
            true = self.truth.beats().seconds
            beats = np.interp(halved, true, np.arange(len(true)))[4:-4] + 0.25
            np.testing.assert_allclose(beats % 1 - 0.25, expected, atol=0.1)

    def test_it_tells_how_far_it_is_and_can_be_ended(self):
        doubts = review(self.recording.context(), self.truth, USUAL_RANGE)[1] + [
            Doubt("weak", 0.0, 1.0, 1, 0, LISTEN, "", []) for _ in range(4)
        ]
        shares = []
        trusted(doubts, on(self.truth), self.recording, USUAL_RANGE, shares.append)
        self.assertEqual(shares, [k / len(doubts) for k in range(len(doubts))])

        def end(share):
            raise InterruptedError

        with self.assertRaises(InterruptedError):
            trusted(doubts, on(self.truth), self.recording, USUAL_RANGE, end)

    def test_a_remedy_that_fits_worse_is_not_offered(self):
        doubt = Doubt("weak", 20.0, 24.0, 9, 34, LISTEN, "…", [Remedy("off", c.Nudge(36, 0.09))])
        (tried,) = trusted([doubt], on(self.truth), self.recording, USUAL_RANGE)
        self.assertEqual((tried.remedies, tried.choices), ([], []))

    def test_players_may_have_held_a_beat_of_a_bar_with_too_many_but_a_machine_holds_none(self):
        even = takes.tempo_map(np.full(105, 104.0), Meters.of((1, "4/4")))
        parts = takes.groove(even, 26) | takes.bass_line(even, 26) | takes.chords(even, 26)
        machine = Analysed(takes.record(even, parts).tracks)
        for truth, recording, expected in (
            (self.truth, self.recording, ["it slows down or holds: bar 10 has 4 beats", "make it 4/4"]),
            (even, machine, ["make it 4/4"]),
        ):
            odd = do(on(truth), c.SetMeter(10, "5/4", only=True)).map
            doubts = review(recording.context(), odd, USUAL_RANGE)[1]
            (doubt,) = [d for d in doubts if d.kind == "meter" and d.bar == 10]
            self.assertEqual([r.words for r in doubt.remedies], expected)

    def test_how_the_take_is_counted_stays_a_choice_though_it_fits_no_better(self):
        half, same = Remedy("half the tempo", c.Ratio("1:2")), Remedy("nothing", c.Shift(0.0))
        doubt = Doubt("level", 0.0, 70.0, 1, 0, LISTEN, "…", [half, same])
        (tried,) = trusted([doubt], on(self.truth), self.recording, USUAL_RANGE)
        self.assertEqual((tried.remedies, tried.choices), ([], [half]))  # what changes nothing is none

    def test_so_does_what_belongs_to_the_music_though_it_may_fit_better(self):
        beats = self.truth.beats()
        widened = Remedy("take it in", c.Ends(to=float(beats.seconds[-1])))
        doubt = Doubt("end", 40.0, 70.0, 9, 34, LISTEN, "…", [widened])
        short = between(self.truth, int(beats.index[0]), int(beats.index[-8]))
        (tried,) = trusted([doubt], on(short), self.recording, USUAL_RANGE)
        self.assertEqual((tried.remedies, tried.choices), ([], [widened]))

    def test_nor_one_that_contradicts_what_was_said(self):
        wrong = do(on(self.truth), c.Downbeat(1)).map
        at = float(wrong.bar_seconds(5))
        doubt = Doubt("bar lines", 0.5, 70.0, 1, 0, LISTEN, "…", [Remedy("back", c.Downbeat(-1))])
        for said, offered in (((), 1), ((BarLine(at),), 0)):
            (tried,) = trusted([doubt], on(wrong, *said), self.recording, USUAL_RANGE)
            self.assertEqual((len(tried.remedies), tried.choices), (offered, []))

    def test_following_first_remedies_never_goes_in_circles(self):
        document = do(on(self.truth), c.Ratio("2:1"), c.Downbeat(1), recording=self.recording)
        seen = []
        for _ in range(8):
            _, tried = self.offered(document.map)
            first = next((d.remedies[0] for d in tried if d.remedies), None)
            if first is None:
                break
            document = apply(first.command, document, self.recording).document
            self.assertTrue(all(document.map != m for m in seen))
            seen.append(document.map)
        self.assertIsNone(first)


class Settled(TestCase):
    def test_bars_that_were_counted_are_not_doubted_inside(self):
        """Eight bars and a steady tempo were said where nobody marks the beat: the doubt's remedy would move them."""
        doubt = Doubt("weak", 10.0, 16.0, 3, 8, WRONG, "…", [])
        self.assertTrue(is_settled(doubt, np.zeros(0), [Settlement("counted", 9.8, 26.0)]))
        self.assertFalse(is_settled(doubt, np.zeros(0), [Settlement("counted", 12.0, 26.0)]))

    def test_where_beats_were_counted_a_long_one_is_held_but_a_strange_tempo_may_be_a_slip(self):
        counted = [Settlement("counted", 9.8, 16.0)]
        hold = Doubt("hold", 12.0, 13.7, 4, 8, WRONG, "One beat lasts 2.3 times its neighbours.", [])
        self.assertTrue(is_settled(hold, np.array([9.8, 16.0]), counted))
        self.assertFalse(is_settled(hold, np.array([9.8, 16.0]), []))
        self.assertFalse(is_settled(replace(hold, kind="jump"), np.array([9.8, 16.0]), counted))

    def test_a_bar_line_that_was_said_ends_doubts_about_bar_lines(self):
        whole = Doubt("bar lines", 0.0, 60.0, 1, 0, LISTEN, "…", [])
        self.assertTrue(is_settled(whole, np.zeros(0), [Settlement("line", 20.0, 20.0)]))
        self.assertFalse(is_settled(whole, np.array([20.0]), []))

    def test_an_end_that_was_said_is_not_asked_about(self):
        before, after = (
            Doubt("end", 2.0, 10.3, 1, 0, LISTEN, "…", []),
            Doubt("end", 90.0, 99.0, 30, 116, LISTEN, "…", []),
        )
        said = [Settlement("starts", 10.0, 10.0)]
        self.assertTrue(is_settled(before, np.zeros(0), said))
        self.assertFalse(is_settled(after, np.zeros(0), said))
        self.assertTrue(is_settled(after, np.zeros(0), [Settlement("ends", 92.0, 92.0)]))
        self.assertFalse(is_settled(replace(before, kind="weak"), np.zeros(0), said))

    def test_a_tempo_that_cannot_be_meant_is_doubted_between_pins(self):
        tempo_map = wandering()
        document = do(on(tempo_map), c.Insert(float(tempo_map.seconds[20:22].mean()), free=True))
        doubt = Doubt("jump", 11.9, 12.6, 6, 20, WRONG, "The tempo jumps to 240.", [])
        pinned = document.map.seconds[document.map.pins]
        self.assertEqual(len(pinned), 1)
        self.assertFalse(is_settled(doubt, pinned, []))
        mild = Doubt("jump", 11.9, 12.6, 6, 20, LISTEN, "The tempo jumps to 135.", [])
        self.assertTrue(is_settled(mild, pinned, []))
        self.assertTrue(is_settled(doubt, pinned, [Settlement("locked", 11.0, 14.0)]))


class HalfTempo(TestCase):
    def test_it_works_where_an_odd_bar_leaves_a_broken_count(self):
        """A free solo at double tempo with a bar of five in it."""
        doubled = wandering(65, Meters.of((1, "4/4"), (7, "5/4"), (8, "4/4")))
        halved = rescale(doubled, 1, 2)
        np.testing.assert_array_equal(halved.beats().seconds, doubled.seconds[::2])
        self.assertEqual(len(lines(halved)), 9)

    def test_the_beats_that_were_said_stay(self):
        document = do(on(wandering()), c.Pin(7), c.Pin(13))
        halved = do(document, c.Ratio("1:2")).map
        self.assertTrue({float(document.map.seconds[k]) for k in (7, 13)} <= set(halved.beats().seconds.tolist()))
        counted = do(on(wandering()), c.MakeOne(9), c.Ratio("1:2"))
        self.assertIn(float(document.map.seconds[9]), counted.map.beats().seconds)
        self.assertIsInstance(counted.statements[0], BarLine)
        self.assertNotIsInstance(counted.statements[0], BarsHere)
