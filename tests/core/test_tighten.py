"""Tighten: attacks go where they belong by the amount that is asked for, and nothing else moves."""

from unittest import TestCase

import librosa
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from core.reshaping.rendering import rendered
from core.reshaping.sources import ArraySource
from core.reshaping.tighten import Tighten, moves, one_attack
from core.reshaping.warp import WarpError
from core.tempomap import TempoMap
from core.tempomap.note_grid import Grid
from tests.core.test_engines import RATE, strokes

MAP = TempoMap.from_beats(0.5 + np.cumsum(np.concatenate([[0], 0.5 + 0.03 * np.sin(np.arange(40))])))
EIGHTHS = MAP.seconds_of_beat(np.arange(0, 39, 0.5))
RNG = np.random.default_rng(4)
#: A player 12 ms late on average who strays by 9 ms.
PLAYED = EIGHTHS + 0.012 + 0.009 * RNG.standard_normal(len(EIGHTHS))
WHOLE = {"start": 0.4, "end": float(EIGHTHS[-1]) + 0.2}


class Grids(TestCase):
    def test_all_of_the_way_puts_every_attack_on_its_place(self):
        found = moves(Tighten(**WHOLE, grid=Grid(0.5), amount=1.0), PLAYED, MAP)
        np.testing.assert_allclose(found.target_sec, EIGHTHS, atol=1e-9)
        self.assertTrue(found.is_moved.all())

    def test_a_share_of_the_way(self):
        found = moves(Tighten(**WHOLE, grid=Grid(0.5), amount=0.6), PLAYED, MAP)
        np.testing.assert_allclose(found.target_sec - EIGHTHS, 0.4 * (PLAYED - EIGHTHS), atol=1e-9)

    def test_automatic_values_take_the_coarsest_that_fits(self):
        beats = MAP.seconds_of_beat(np.array([0, 1, 1.25, 1.5, 2, 2 + 1 / 3, 2 + 2 / 3, 3, 4, 4.5]))
        strays = np.array([4, -5, 3, 6, -2, 5, -4, 3, -6, 2]) / 1000
        found = moves(Tighten(0.4, float(beats[-1]) + 0.2, amount=1.0), beats + strays, MAP)
        np.testing.assert_allclose(found.target_sec, beats, atol=1e-9)

    def test_what_is_near_enough_or_too_far_stays(self):
        at = EIGHTHS.copy()
        at[4] += 0.003
        at[8] += 0.07
        at[12] += 0.02
        found = moves(Tighten(**WHOLE, grid=Grid(0.5), amount=1.0, leave_within=0.005, leave_beyond=0.05), at, MAP)
        self.assertEqual(np.flatnonzero(found.is_moved).tolist(), [12])
        np.testing.assert_array_equal(found.target_sec[[4, 8]], at[[4, 8]])

    def test_attacks_that_are_left_out_stay(self):
        found = moves(Tighten(**WHOLE, grid=Grid(0.5), amount=1.0, left_out=(float(PLAYED[6]),)), PLAYED, MAP)
        self.assertFalse(found.is_moved[6])
        self.assertEqual(found.target_sec[6], PLAYED[6])

    def test_of_a_flam_only_the_stroke_on_the_place_moves(self):
        at = np.sort(np.append(PLAYED, EIGHTHS[10] - 0.035))
        found = moves(Tighten(**WHOLE, grid=Grid(0.5), amount=1.0), at, MAP)
        k = int(np.argmin(np.abs(found.attack_sec - (EIGHTHS[10] - 0.035))))
        self.assertFalse(found.is_moved[k])
        self.assertTrue((np.diff(found.target_sec) > 0).all())

    def test_a_stretch_far_longer_than_the_music_is_no_more_work(self):
        near, far = (moves(Tighten(0.4, end, "grid", None, 1.0), PLAYED, MAP) for end in (30.0, 1e9))
        np.testing.assert_array_equal(near.target_sec, far.target_sec)

    def test_swing(self):
        swung = Grid(0.5, swing=66.7)
        found = moves(Tighten(**WHOLE, grid=swung, amount=1.0, leave_beyond=0.2), PLAYED, MAP)
        off = MAP.quarters_at(found.target_sec[1::2]) % 1
        np.testing.assert_allclose(off, 0.667, atol=0.001)


class Others(TestCase):
    def test_toward_another_track_where_it_strikes(self):
        kick = EIGHTHS[::2] + 0.02
        found = moves(Tighten(**WHOLE, target="track", amount=1.0, leave_beyond=0.05), PLAYED, MAP, kick)
        np.testing.assert_allclose(found.target_sec[::2], kick, atol=1e-9)
        np.testing.assert_array_equal(found.target_sec[1::2], PLAYED[1::2])

    def test_toward_the_own_average_the_lean_stays(self):
        found = moves(Tighten(**WHOLE, target="average", grid=Grid(0.5), amount=1.0), PLAYED, MAP)
        off = found.target_sec - EIGHTHS
        self.assertLess(off.std(), 1e-9)
        self.assertAlmostEqual(off.mean(), (PLAYED - EIGHTHS).mean(), 9)

    def test_another_track_that_is_silent_moves_nothing(self):
        found = moves(Tighten(**WHOLE, target="track"), PLAYED, MAP, np.zeros(0))
        self.assertFalse(found.is_moved.any())


class Fences(TestCase):
    @settings(deadline=None, max_examples=40)
    @given(st.integers(0, 25), st.integers(2, 12), st.floats(0, 1), st.sampled_from(["grid", "average"]))
    def test_outside_the_stretch_nothing_moves(self, first, count, amount, target):
        start, end = float(EIGHTHS[first]), float(EIGHTHS[first + count])
        found = moves(Tighten(start, end, target, Grid(0.5), amount), PLAYED, MAP)
        warp = found.warp()
        first, last = found.fence_sec[[0, -1]]
        outside = PLAYED[~((first <= PLAYED) & (last >= PLAYED))]
        np.testing.assert_array_equal(warp.to_target(outside), outside)
        self.assertEqual(len(found.attack_sec) + len(outside), len(PLAYED))
        self.assertTrue((np.diff(found.target_sec) > 0).all())

    def test_a_fence_inside_keeps_its_place(self):
        fence = float((PLAYED[9] + PLAYED[10]) / 2)
        warp = moves(Tighten(**WHOLE, grid=Grid(0.5), amount=1.0, fences=(fence,)), PLAYED, MAP).warp()
        self.assertEqual(float(warp.to_target(fence)), fence)

    def test_one_attack_between_fences_of_its_own(self):
        warp, fences = one_attack(PLAYED, float(PLAYED[10]), float(EIGHTHS[10]))
        self.assertAlmostEqual(float(warp.to_target(PLAYED[10])), EIGHTHS[10], 12)
        others = np.delete(PLAYED, 10)
        np.testing.assert_array_equal(warp.to_target(others), others)
        with self.assertRaisesRegex(WarpError, "fences"):
            one_attack(PLAYED, float(PLAYED[10]), float(PLAYED[12]))
        self.assertTrue(PLAYED[9] < fences[0] < PLAYED[10] < fences[1] < PLAYED[11])

    def test_settings_that_make_no_sense_are_refused(self):
        for wrong in ({"amount": 1.2}, {"leave_within": 0.1, "leave_beyond": 0.05}, {"target": "moon"}, {"end": 0.1}):
            with self.assertRaises(ValueError):
                Tighten(**{**WHOLE, **wrong})


class Heard(TestCase):
    """On samples, with librosa's onset detector as the judge: it knows nothing of us."""

    def onsets(self, x):
        frames = librosa.onset.onset_strength(y=x[:, 0], sr=RATE, hop_length=64)
        return librosa.onset.onset_detect(onset_envelope=frames, sr=RATE, hop_length=64, units="time", backtrack=False)

    def test_a_loose_player_is_tight_and_outside_the_stretch_the_same_to_the_bit(self):
        at = PLAYED[PLAYED < 9.5]
        x = strokes(at)
        start, end = float(EIGHTHS[8]), float(EIGHTHS[28])
        found = moves(Tighten(start, end, "grid", Grid(0.5), 1.0), at, MAP)
        y = np.concatenate(list(rendered(ArraySource(x, RATE), found.warp(), "cut", at)))
        a, b = (round(f * RATE) for f in found.fence_sec[[0, -1]])
        np.testing.assert_array_equal(y[:a], x[:a])
        np.testing.assert_array_equal(y[b:], x[b:])
        places = EIGHTHS[8:28]
        strays = []
        for sound in (x, y):
            heard = self.onsets(sound)
            nearest = heard[np.abs(heard[:, None] - places).argmin(axis=0)]
            strays.append(np.std(nearest - places))
        self.assertGreater(strays[0], 0.006)
        self.assertLess(strays[1], 0.002)
        self.assertLess(np.std(found.target_sec - found.goal_sec), 1e-9)
