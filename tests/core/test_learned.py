"""The learned ear: its arithmetic against a reference, what it hears in plain cases, and the pieces it learned on."""

from unittest import TestCase

import numpy as np
from scipy.signal import correlate

from core.beats import learned
from core.beats.features import COUNT, SHARP, SLOW, STEP, features, in_steps
from core.beats.scene import look
from tests.core import takes
from tests.core.test_situations import band
from training.compose import compose


class Arithmetic(TestCase):
    def test_the_dilated_convolution_is_scipy_s_correlation(self):
        rng = np.random.default_rng(1)
        x, weight = rng.normal(size=(200, 3)).astype(np.float32), rng.normal(size=(2, 3, 5)).astype(np.float32)
        for dilation in (1, 4):
            spread = np.zeros((2, 3, 4 * dilation + 1))
            spread[:, :, ::dilation] = weight
            expected = [sum(correlate(x[:, i], spread[o, i], "same") for i in range(3)) + o for o in range(2)]
            got = learned._convolve(x, weight, np.arange(2, dtype=np.float32), dilation)
            np.testing.assert_allclose(got, np.transpose(expected), atol=1e-4)

    def test_sharp_features_keep_every_frame_and_slow_ones_their_mean(self):
        frames = np.arange(11 * (SHARP + SLOW), dtype=np.float32).reshape(11, -1)
        steps = in_steps(frames)
        self.assertEqual(steps.shape, (11 // STEP, COUNT))
        np.testing.assert_array_equal(steps[1, :SHARP], frames[2, :SHARP])
        np.testing.assert_array_equal(steps[1, SHARP : 2 * SHARP], frames[3, :SHARP])
        np.testing.assert_array_equal(steps[1, 2 * SHARP :], (frames[2, SHARP:] + frames[3, SHARP:]) / 2)


class Hearing(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.made = takes.record(*band())
        cls.scene = look(cls.made.players)

    def at(self, seconds, row):
        """The ear's answer within 20 ms of each time."""
        k = np.round(np.asarray(seconds) * 100).astype(int)[:, None] + np.arange(-2, 3)
        return self.scene.ear[k, row].max(axis=1)

    def test_beats_are_heard_and_what_lies_between_is_not(self):
        middles = (self.made.beats[:-1] + self.made.beats[1:]) / 2
        self.assertGreater(np.median(self.at(self.made.beats[4:-4], 0)), 0.5)
        self.assertLess(np.median(self.at(middles[4:-4], 0)), 0.2)

    def test_downbeats_are_told_from_other_beats(self):
        others = np.setdiff1d(self.made.beats, self.made.downbeats)
        self.assertGreater(np.median(self.at(self.made.downbeats[1:-1], 1)), 4 * np.median(self.at(others[4:-4], 1)))

    def test_the_same_sound_is_heard_the_same(self):
        np.testing.assert_array_equal(look(self.made.players).ear, self.scene.ear)

    def test_twice_as_loud_changes_nothing_but_rounding(self):
        mix, curve = self.scene.mix, self.scene.curve
        shown = features(curve, mix.flux, mix.energy, mix.chroma)
        louder = features(2 * curve, 2 * mix.flux, mix.energy + 0.5, mix.chroma)
        np.testing.assert_allclose(louder, shown, atol=1e-3)

    def test_noise_has_no_beats(self):
        rng = np.random.default_rng(0)
        noise = takes.to_player("hiss", rng.standard_normal(20_000 * 30).astype(np.float32))
        self.assertLess(np.percentile(look([noise]).ear[:, 0], 95), 0.35)


class Pieces(TestCase):
    def test_a_seed_is_the_same_piece_for_ever(self):
        first, second = compose(17), compose(17)
        np.testing.assert_array_equal(first.beats, second.beats)
        self.assertEqual(first.tracks, second.tracks)

    def test_pieces_are_playable_and_their_bars_have_beats(self):
        for seed in range(40):
            piece = compose(seed)
            self.assertTrue((np.diff(piece.beats) > 0.15).all(), seed)
            self.assertTrue(piece.first[0], seed)
            lengths = np.diff(np.flatnonzero(piece.first))
            self.assertTrue(set(lengths.tolist()) <= {1, 2, 3, 4, 5, 6, 7}, (seed, lengths))
            notes = [n for _, _, played in piece.tracks for n in played]
            self.assertTrue(all(0 <= n.start < n.end and 21 <= n.pitch <= 108 for n in notes), seed)
            self.assertLessEqual(piece.lead, piece.beats[0] + 0.3)

    def test_players_stay_near_the_beat(self):
        """Common practice: who plays in time is within some 30 ms; strokes on beats outnumber those between."""
        piece = next(p for p in map(compose, range(60)) if any(name == "kick" for name, _, _ in p.tracks))
        kick = np.array([n.start for name, _, notes in piece.tracks if name == "kick" for n in notes])
        kick = kick[kick > piece.beats[0] - 0.05]
        away = np.abs(kick[:, None] - piece.beats[None, :]).min(axis=1)
        self.assertGreater(np.mean(away < 0.03), 0.5)
