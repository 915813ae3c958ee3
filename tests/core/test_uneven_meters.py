"""Bars of five or seven quick pulses: told from even ones, grouped as they are struck."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from core.tempomap import Meter, Meters, TempoMap
from core.tracking import uneven_meters
from core.tracking.beat_tracker import TrackingOptions, track_beats
from core.tracking.context import build_context
from tests.core import takes


def played(text, pace, bars=20, percent=3):
    """A band in a meter whose groups are felt, ``pace`` pulses a minute."""
    meters = Meters.of((1, text))
    groups = np.tile(meters.meter_at(1).groups, bars)
    gaps = groups * 60 / takes.drift(len(groups), pace, percent)
    truth = TempoMap.from_beats(1 + np.concatenate([[0], np.cumsum(gaps)]), 0, meters)
    return takes.record(truth, takes.groove(truth, bars) | takes.bass_line(truth, bars))


class ComesRound(TestCase):
    def test_seven_and_five_pulses_a_bar(self):
        for text, pace, count in (("2+2+3/8", 240, 7), ("3+2+2/8", 230, 7), ("2+3/8", 220, 5)):
            found = uneven_meters.bar_of_pulses(build_context(played(text, pace).tracks))
            self.assertIsNotNone(found, text)
            self.assertEqual(found[0], count)
            self.assertAlmostEqual(found[1], pace, delta=0.05 * pace)

    def test_even_bars_do_not(self):
        """Meters that most music is written in (common practice), their eighths as quick as those above."""
        for text, bpm in (("4/4", 118), ("3/4", 112), ("5/4", 120), ("7/4", 116), ("6/8", 76), ("12/8", 80)):
            meters = Meters.of((1, text))
            truth = takes.tempo_map(takes.drift(takes.length_in_beats(meters, 14) + 1, bpm, 3), meters)
            made = takes.record(truth, takes.groove(truth, 14) | takes.bass_line(truth, 14))
            self.assertIsNone(uneven_meters.bar_of_pulses(build_context(made.tracks)), text)

    def test_quick_beats_that_the_engineer_expects_are_beats(self):
        scene = build_context(played("2+3/8", 220).tracks)
        self.assertIsNotNone(uneven_meters.bar_of_pulses(scene))
        self.assertIsNone(uneven_meters.bar_of_pulses(scene, fastest=240))
        self.assertIsNone(uneven_meters.bar_of_pulses(scene, fastest=400))

    def test_what_is_asked_for_is_not_overruled(self):
        made = played("2+2+3/8", 240, bars=12)
        asked = track_beats(made.tracks, TrackingOptions(meter=Meter(4)))
        self.assertEqual(str(asked.map.meters.meter_at(2)), "4/4")


class Grouping(TestCase):
    def scene(self, groups, bars=12, gap=25):
        """Attacks of a bar's pulses, the first of each group stronger."""
        base = build_context(played("4/4", 120, bars=8).tracks)
        strong = np.isin(np.arange(sum(groups)), np.cumsum((0, *groups[:-1])))
        pulses = 100 + gap * np.arange(bars * sum(groups))
        onset_envelope = np.zeros(pulses[-1] + 200)
        onset_envelope[pulses] = np.tile(np.where(strong, 1.0, 0.3), bars)
        return replace(base, onset_envelope=onset_envelope), pulses, np.arange(0, len(pulses), sum(groups))

    def test_every_usual_grouping_is_heard(self):
        for count, usual in uneven_meters.GROUPINGS.items():
            for groups in usual:
                scene, pulses, downbeats = self.scene(groups)
                self.assertEqual(uneven_meters.grouped(scene, pulses, downbeats, count).groups, groups)

    def test_where_nothing_tells_the_usual_one_is_taken(self):
        """Twos before the three (common practice)."""
        scene, pulses, downbeats = self.scene((2, 2, 3))
        flat = replace(scene, onset_envelope=np.full_like(scene.onset_envelope, 0.5))
        self.assertEqual(uneven_meters.grouped(flat, pulses, downbeats, 7).groups, uneven_meters.GROUPINGS[7][0])

    def test_an_unfinished_last_bar_does_not_matter(self):
        scene, pulses, downbeats = self.scene((3, 2))
        self.assertEqual(uneven_meters.grouped(scene, pulses[:-2], downbeats, 5).groups, (3, 2))


class Found(TestCase):
    def test_felt_beats_confidence_and_doubts_agree(self):
        found = track_beats(played("2+2+3/8", 240).tracks)
        beats = found.map.beats()
        self.assertEqual(found.map.meters.meter_at(3), Meter(7, 8, (2, 2, 3)))
        self.assertEqual(len(found.confidence), len(beats))
        self.assertFalse([d for d in found.doubts if d.kind == "phase"])
        self.assertTrue(all(beats.index[0] <= d.beat <= beats.index[-1] for d in found.doubts))
        # the long beat is half as long again as the others
        gaps = np.diff(beats.seconds)
        long = gaps[beats.beat[:-1] == 3].mean() / gaps[beats.beat[:-1] == 1].mean()
        self.assertAlmostEqual(long, 1.5, delta=0.06)
