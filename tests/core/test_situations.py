"""What practice brings, one made-up take each: drift, fills, silence, swing, odd meters, no drums, loose ends."""

from dataclasses import replace
from unittest import TestCase

import mir_eval
import numpy as np

from core.instruments import voices
from core.tempomap import Meters, TempoMap
from core.tempomap.edits import EditError
from core.tracking.beat_tracker import TrackingOptions, track_beats
from core.tracking.context import build_context
from core.tracking.doubts.settled import Settlement, is_settled
from core.tracking.redetect import redetect
from tests.core import takes
from tests.core.takes import Stroke


class Case(TestCase):
    def check(self, made, beats=0.95, downs=0.9, meter=None, tight=None, wishes=TrackingOptions()):
        found = track_beats(made.tracks, wishes)
        b = found.map.beats()
        inside = (b.seconds > made.beats[0] - 0.1) & (b.seconds < made.beats[-1] + 0.1)
        f = mir_eval.beat.f_measure
        got = f(made.beats, b.seconds[inside]), f(made.downbeats, b.seconds[inside & (b.beat == 1)])
        self.assertGreaterEqual(got[0], beats, "beats")
        self.assertGreaterEqual(got[1], downs, "downbeats")
        if tight:
            self.assertGreaterEqual(f(made.beats, b.seconds[inside], 0.02), tight, "within 20 ms")
        if meter:
            # the meter of most bars
            lengths = [found.map.meters.meter_at(bar).felt for bar in range(1, found.map.bar_range[1])]
            self.assertEqual(max(set(lengths), key=lengths.count), meter)
        return found


def band(bpm=118, bars=16, text="4/4", percent=5.0, changes=(), **options):
    meters = Meters.of((1, text), *changes)
    truth = takes.tempo_map(takes.drift(takes.length_in_beats(meters, bars) + 1, bpm, percent), meters)
    parts = takes.groove(truth, bars, **options) | takes.bass_line(truth, bars) | takes.chords(truth, bars)
    return truth, parts


class WithDrums(Case):
    def test_a_band_that_drifts(self):
        self.check(takes.record(*band(percent=8)), meter="4/4", tight=0.95)

    def test_fills_in_which_the_kick_leaves_the_beat(self):
        self.check(takes.record(*band(fills=(4, 8, 12))), meter="4/4")

    def test_drums_silent_for_some_bars(self):
        self.check(takes.record(*band(skip=range(6, 10))), meter="4/4")

    def test_swing(self):
        self.check(takes.record(*band(bpm=132, swing=0.67)), meter="4/4")

    def test_ghost_notes(self):
        self.check(takes.record(*band(bpm=96, ghosts=True)), meter="4/4")

    def test_half_time_feel_offers_both_counts(self):
        found = track_beats(takes.record(*band(bpm=140, half_time=True)).tracks)
        tempos = [60 / np.median(np.diff(m.beats().seconds)) for m in (found.map, *(a.map for a in found.alternatives))]
        for bpm in (143, 71.5):
            self.assertTrue(any(abs(t / bpm - 1) < 0.06 for t in tempos), (bpm, tempos))

    def test_an_off_beat_guitar_louder_than_the_beat(self):
        truth, parts = band()
        strums = [Stroke(q + 0.5, 57 + s, 0.3, 1.0) for q in range(64) for s in (0, 4, 7)]
        self.check(takes.record(truth, parts | {"guitar": (voices.dulcimer, strums, 0.0)}), meter="4/4")

    def test_a_count_in_a_pickup_and_a_tail_of_applause(self):
        meters = Meters.of((1, "4/4"))
        truth = takes.tempo_map(takes.drift(16 * 4 + 5, 110), meters, first=-4)
        parts = takes.groove(truth, 16) | takes.bass_line(truth, 16) | takes.chords(truth, 16)
        parts["sticks"] = (voices.stick, [Stroke(float(k), 80, level=0.8) for k in range(-4, 0)], 0.0)
        parts["bass"][1].insert(0, Stroke(-0.5, 40, 0.4, 0.6))
        end = float(truth.seconds[-1])

        def applause(frames, rng):
            x = np.zeros(frames)
            start = round((end + 0.8) * takes.RATE)
            x[start:] = 0.15 * rng.standard_normal(frames - start)
            for at in rng.integers(start, frames - 500, 300):
                x[at : at + 400] += rng.standard_normal(400) * np.exp(-np.arange(400) / 80)
            return x

        found = self.check(takes.record(truth, parts, tail=7.0, extra={"room": applause}), meter="4/4")
        self.assertAlmostEqual(float(found.map.bar_seconds(1)), float(truth.bar_seconds(1)), delta=0.03)
        self.assertGreater(float(found.map.seconds[0]), 0.9)
        self.assertLess(float(found.map.seconds[-1]), end + 3.5)

    def test_a_drum_roll_before_beat_one(self):
        meters = Meters.of((1, "4/4"))
        truth = takes.tempo_map(takes.drift(16 * 4 + 5, 112), meters, first=-4)
        parts = takes.groove(truth, 16) | takes.bass_line(truth, 16) | takes.chords(truth, 16)
        parts["snare"][1][:0] = [Stroke(-2 + k / 8, 62, level=0.3 + 0.03 * k) for k in range(16)]
        found = self.check(takes.record(truth, parts), meter="4/4")
        self.assertAlmostEqual(float(found.map.bar_seconds(1)), float(truth.bar_seconds(1)), delta=0.03)

    def test_a_count_in_by_voice(self):
        meters = Meters.of((1, "4/4"))
        truth = takes.tempo_map(takes.drift(16 * 4 + 5, 98), meters, first=-4)
        parts = takes.groove(truth, 16) | takes.bass_line(truth, 16) | takes.chords(truth, 16)
        # spoken numbers: soft attacks, some 30 ms late and early
        parts["voice"] = (
            voices.squeezebox,
            [Stroke(k + 0.04 * (-1) ** k, 50 + k, 0.3, 0.5) for k in range(-4, 0)],
            0.0,
        )
        found = self.check(takes.record(truth, parts), meter="4/4")
        self.assertAlmostEqual(float(found.map.bar_seconds(1)), float(truth.bar_seconds(1)), delta=0.03)

    def test_a_slow_band_that_plays_eighths_is_not_counted_double(self):
        for bpm in (66, 76):
            truth, parts = band(bpm=bpm)
            found = self.check(takes.record(truth, parts), meter="4/4")
            self.assertAlmostEqual(60 / float(np.median(np.diff(found.map.beats().seconds))), bpm, delta=0.08 * bpm)

    def test_a_machine_that_pauses_keeps_its_downbeats(self):
        meters, bars = Meters.of((1, "4/4")), 28
        truth = takes.tempo_map(np.full(bars * 4 + 1, 117.0), meters)
        parts = takes.groove(truth, bars, skip=range(13, 17)) | takes.chords(truth, bars, voices.keys)
        self.check(takes.record(truth, parts, jitter=0.0), meter="4/4")

    def test_ends_that_the_engineer_sets(self):
        made = takes.record(*band())
        found = track_beats(made.tracks, TrackingOptions(start=8.0, end=24.0)).map
        self.assertGreater(float(found.seconds[0]), 7.9)
        self.assertLess(float(found.seconds[-1]), 24.1)

    def test_a_finished_mix(self):
        self.check(takes.record(*band(percent=4), mix=True), meter="4/4")


class InOtherMeters(Case):
    def meter(self, text, bpm, want=None, bars=18, **more):
        truth, parts = band(bpm=bpm, text=text, bars=bars, percent=3)
        self.check(takes.record(truth, parts), meter=want or text, **more)

    def test_two_four(self):
        # two bars of 2/4 or one of 4/4 is a matter of writing: the beats must be right, and the asked meter kept
        truth, parts = band(bpm=112, text="2/4", bars=36, percent=3)
        self.check(takes.record(truth, parts), downs=0.6)
        self.check(takes.record(truth, parts), meter="2/4", wishes=TrackingOptions(meter=truth.meters.meter_at(1)))

    def test_three_four(self):
        self.meter("3/4", 126)

    def test_five_four(self):
        self.meter("5/4", 140)

    def test_six_eight(self):
        # so it is here: chords that change every other bar may be written in 12/8
        truth, parts = band(bpm=66, text="6/8", bars=18, percent=3)
        made = takes.record(truth, parts)
        self.check(made, downs=0.6)
        self.check(made, meter="6/8", wishes=TrackingOptions(meter=truth.meters.meter_at(1)))

    def test_nine_eight(self):
        truth, parts = band(bpm=72, text="9/8", percent=3)
        self.check(takes.record(truth, parts), meter="9/8", wishes=TrackingOptions(meter=truth.meters.meter_at(1)))

    def test_twelve_eight(self):
        truth, parts = band(bpm=76, text="12/8", percent=3)
        self.check(takes.record(truth, parts), downs=0.6)

    def test_seven_eight_felt_in_unequal_beats(self):
        meters, bars = Meters.of((1, "2+2+3/8")), 20
        eighths = takes.drift(7 * bars + 1, 270, 3)
        pulse = takes.tempo_map(eighths, Meters.of((1, "1+1+1+1+1+1+1/8")))
        truth = pulse.with_points(pulse.seconds, pulse.quarters)
        truth = replace(truth, meters=meters)
        made = takes.record(truth, takes.groove(truth, bars) | takes.bass_line(truth, bars))
        found = self.check(made, beats=0.9, downs=0.9, meter="7/8", wishes=TrackingOptions(meter=meters.meter_at(1)))
        self.assertEqual(len(found.confidence), len(found.map.beats()))

    def test_uneven_meters_are_found_unasked(self):
        """Seven or five quick pulses a bar, grouped in twos and a three (common practice)."""
        for text, pace in (("2+2+3/8", 260), ("3+2+2/8", 230), ("2+3/8", 220)):
            meters, bars = Meters.of((1, text)), 20
            groups = np.tile(meters.meter_at(1).groups, bars)
            gaps = groups * 60 / takes.drift(len(groups), pace, 3)
            truth = TempoMap.from_beats(1 + np.concatenate([[0], np.cumsum(gaps)]), 0, meters)
            made = takes.record(truth, takes.groove(truth, bars) | takes.bass_line(truth, bars))
            self.check(made, beats=0.9, downs=0.9, meter=meters.meter_at(1).felt)

    def test_one_odd_bar_among_others(self):
        truth, parts = band(bars=20, changes=((9, "2/4"), (10, "4/4")))
        self.check(takes.record(truth, parts), meter="4/4", downs=0.85)

    def test_a_stretch_in_another_meter(self):
        """A waltz in the middle of a song, to its end, or before it: its bars are found, and one doubt names them."""
        stretches = (
            ("4/4", ((13, "3/4"), (23, "4/4")), 36, "Bars 13 to 22 have 3 beats each, most others 4"),
            ("4/4", ((17, "3/4"),), 30, "Bars 17 to 30 have 3 beats each, most others 4"),
            ("3/4", ((13, "4/4"),), 26, "Bars 1 to 12 have 3 beats each, most others 4"),
        )
        for text, changes, bars, words in stretches:
            truth, parts = band(bars=bars, text=text, changes=changes)
            found = self.check(takes.record(truth, parts), meter="4/4", downs=0.95)
            self.assertEqual(found.map.meters.changes, truth.meters.changes)
            about = [d for d in found.doubts if d.kind in ("meter", "new meter")]
            self.assertEqual([d.reason for d in about], [f"{words}: does the meter change?"])
            (remedy,) = about[0].remedies
            self.assertEqual(remedy.words, "4/4 there, too")
            # what is said of the bar where it changes ends the doubt
            where = max(13, changes[0][0])
            self.assertEqual(about[0].bar, where)
            for kind in ("meter", "meters"):
                said = Settlement(kind, float(truth.bar_seconds(where)), 0.0)
                self.assertTrue(is_settled(about[0], np.zeros(0), [said]))


class WithoutDrums(Case):
    def solo(self, voice, bpm=92, bars=16, text="4/4", percent=6, harmony=True, **record):
        meters = Meters.of((1, text))
        truth = takes.tempo_map(takes.drift(takes.length_in_beats(meters, bars) + 1, bpm, percent), meters)
        parts = takes.melody(truth, bars, voice)
        if harmony:
            parts |= takes.bass_line(truth, bars)
        return takes.record(truth, parts, **record)

    def test_plucked_strings(self):
        self.check(self.solo(voices.dulcimer), downs=0.85)

    def test_a_lone_melody(self):
        # nothing but faint accents tells its bars: where they are wrong, it has to be said
        found = self.check(self.solo(voices.keys, harmony=False), beats=0.9, downs=0.0)
        self.assertTrue({"downbeat", "meter", "bar lines"} & {d.kind for d in found.doubts})

    def test_soft_attacks(self):
        self.check(self.solo(voices.squeezebox), beats=0.9, downs=0.6)

    def test_bowed_strings_together(self):
        meters, bars = Meters.of((1, "3/4")), 20
        truth = takes.tempo_map(takes.drift(3 * bars + 1, 118, 5), meters)
        parts = takes.melody(truth, bars, voices.squeezebox)
        parts["cello"] = (voices.squeezebox, takes.bass_line(truth, bars)["bass"][1], 0.012)
        parts |= takes.chords(truth, bars, voices.squeezebox, lean=-0.006)
        self.check(takes.record(truth, parts, jitter=0.012), beats=0.9, downs=0.8)

    def test_rubato_with_a_fermata(self):
        meters, bars = Meters.of((1, "3/4")), 20
        index = np.arange(takes.length_in_beats(meters, bars) + 1)
        truth = takes.tempo_map(84 + 10 * np.sin(index / 7), meters, held=((30, 2.2),))
        made = takes.record(truth, takes.melody(truth, bars, voices.keys) | takes.bass_line(truth, bars))
        self.check(made, beats=0.95, downs=0.5)


class Machines(Case):
    def test_a_drum_machine_at_126_055_is_found_to_a_thousandth(self):
        meters, bars = Meters.of((1, "4/4")), 24
        truth = takes.tempo_map(np.full(bars * 4 + 1, 126.055), meters, start=1.234)
        found = track_beats(takes.record(truth, takes.groove(truth, bars), jitter=0.0).tracks)
        self.assertEqual(len(found.map.seconds), 2)
        self.assertAlmostEqual(float(found.map.bpm_at(10.0)), 126.055, delta=0.001)
        offset = float(found.map.beats().seconds[0] - truth.seconds[0])
        self.assertAlmostEqual(offset, round(offset / (60 / 126.055)) * 60 / 126.055, delta=0.002)

    def test_a_human_is_no_machine_and_the_engineer_may_say_so(self):
        made = takes.record(*band(percent=2))
        self.assertGreater(len(track_beats(made.tracks).map.seconds), 10)
        self.assertEqual(len(track_beats(made.tracks, TrackingOptions(exact_tempo=True)).map.seconds), 2)


class AgainAndOtherwise(Case):
    @classmethod
    def setUpClass(cls):
        cls.made = takes.record(*band(fills=(8,), skip=(12,)))
        cls.scene = build_context(cls.made.tracks)
        cls.found = track_beats(cls.made.tracks)

    def test_a_spoiled_stretch_is_solved_again_and_nothing_else_moves(self):
        good = self.found.map
        times = good.seconds.copy()
        times[20:27] += np.array([0.06, 0.11, 0.15, 0.17, 0.15, 0.1, 0.05])
        spoiled = good.with_points(times, good.quarters)
        first = round(float(good.meters.beat_of_quarters(good.quarters[18])))
        again = redetect(self.scene, spoiled, first, first + 11)
        inside = slice(19, 29)
        self.assertLess(np.abs(again.seconds[inside] - good.seconds[inside]).max(), 0.02)
        outside = np.r_[0:19, 29 : len(times)]
        self.assertTrue((again.seconds[outside] == spoiled.seconds[outside]).all())

    def test_a_pin_inside_is_kept(self):
        good = self.found.map
        pins = np.zeros(len(good.seconds), bool)
        pins[22] = True
        moved = good.seconds.copy()
        moved[22] += 0.03
        first = round(float(good.meters.beat_of_quarters(good.quarters[18])))
        again = redetect(self.scene, good.with_points(moved, good.quarters, pins), first, first + 9)
        self.assertIn(moved[22], again.seconds.tolist())

    def test_too_short_a_stretch_is_refused(self):
        with self.assertRaises(EditError):
            redetect(self.scene, self.found.map, 4, 5)

    def test_pins_are_kept_by_a_whole_search(self):
        pin = float(self.found.map.seconds[30]) + 0.021
        again = track_beats(self.made.tracks, TrackingOptions(pins=[pin])).map
        self.assertIn(pin, again.seconds.tolist())
        self.assertEqual(again.seconds[again.pins].tolist(), [pin])

    def test_other_readings_are_ready_maps(self):
        names = [a.name for a in self.found.alternatives]
        self.assertTrue(any("tempo" in n for n in names), names)
        self.assertIn("downbeat 1 later", names)
        scores = [a.score for a in self.found.alternatives]
        self.assertEqual(scores, sorted(scores, reverse=True))
        for a in self.found.alternatives:
            self.assertGreater(len(a.map.beats()), 10)

    def test_doubts_say_where_why_and_what_to_do(self):
        sparse = takes.tempo_map(takes.drift(49, 92), Meters.of((1, "4/4")))
        found = track_beats(takes.record(sparse, takes.melody(sparse, 12, voices.keys)).tracks).doubts
        self.assertTrue(found)
        for doubt in found:
            self.assertLess(doubt.start, doubt.end)
            self.assertIn(doubt.severity, (1, 2, 3))
            self.assertRegex(doubt.reason, r"[.?]$")
            self.assertTrue(all(r.words and r.command.kind for r in doubt.remedies))

    def test_confidence_is_lower_where_it_is_hard(self):
        easy = track_beats(takes.record(*band(percent=2)).tracks).confidence
        rng = np.random.default_rng(2)
        vague = takes.to_track(
            "wind", rng.standard_normal(30 * takes.RATE) * np.repeat(rng.uniform(0, 1, 120), takes.RATE // 4)
        )
        hard = track_beats([vague]).confidence
        self.assertGreater(np.median(easy), 0.85)
        self.assertLess(np.median(hard), np.median(easy))
