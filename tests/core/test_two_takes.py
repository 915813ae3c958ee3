"""Two takes of one song, recorded apart: what belongs together is found, and what only one has is told."""

from functools import cache
from unittest import TestCase

import librosa
import numpy as np

from core.demo.stage import Stroke
from core.instruments import voices
from core.reshaping.cost import cost
from core.reshaping.rendering import JUMP, length, rendered
from core.reshaping.sources import ArraySource
from core.reshaping.takes.by_sound import link_by_sound
from core.reshaping.takes.link import Link, agreement, follow, link_by_bars, made_exact
from core.reshaping.takes.warping import refined
from core.reshaping.warp import Warp, WarpError
from core.tempomap import Meters
from tests.core.takes import drift, groove, record, tempo_map

SONG = tuple(range(16))
ROOTS = (45, 41, 48, 43, 45, 50, 43, 48, 41, 43, 40, 45, 38, 43, 48, 41)
SCALE = (60, 62, 64, 65, 67, 69, 71, 72)


#: Of another song: the first one backwards, half an octave away.
OTHER_ROOTS = tuple(r + 6 for r in reversed(ROOTS))


@cache
def take(bpm, seed, order, drums=True, roots=ROOTS, mix=True):
    """A song whose bars ``order`` says; every bar has a tune of its own. ``seed``: of the drift and of the players."""
    truth = tempo_map(drift(4 * len(order) + 2, bpm, 5.0, seed), Meters(), 0, 1.0 + seed)
    tunes = np.random.default_rng(7)
    tune = [[(k / 2, int(tunes.choice(SCALE))) for k in range(8) if tunes.random() < 0.7] for _ in range(64)]
    chords, melody, bass = [], [], []
    for place, bar in enumerate(order):
        q, root = 4 * place, roots[(bar // 8 * 4 + bar % 4) % 16]
        chords += [Stroke(q, root + 12 + step, 3.8, 0.6) for step in (0, 4, 7)]
        bass += [Stroke(q, root - 12, 0.9, 0.9), Stroke(q + 2, root - 5, 0.9, 0.7)]
        melody += [Stroke(q + offset, pitch, 0.45, 0.7) for offset, pitch in tune[bar]]
    parts = {
        "chords": (voices.squeezebox, chords, 0.004),
        "melody": (voices.dulcimer, melody, 0.0),
        "bass": (voices.bass, bass, 0.006),
    }
    return record(truth, parts | (groove(truth, len(order)) if drums else {}), seed=seed, mix=mix)


def linked(leader, follower):
    return made_exact(link_by_sound(leader.tracks, follower.tracks), leader.tracks, follower.tracks)


def bar_of(made, seconds):
    return float(made.truth.quarters_at(seconds)) / 4


class Together(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.leader, cls.follower = take(96, 0, SONG, mix=False), take(103, 1, SONG, mix=False)
        cls.link = linked(cls.leader, cls.follower)

    def test_players_agree_within_five_milliseconds(self):
        """96 and 103 a minute with drifts of their own; every player's timing differs by some 5 ms in each take."""
        (warp,) = self.link.stretches
        for own, theirs in zip(self.follower.tracks, self.leader.tracks, strict=True):
            with self.subTest(own.name):
                clear = own.attacks.seconds[own.attacks.strength > 0.3]
                off = np.abs(warp.to_target(clear)[:, None] - theirs.attacks.seconds[None]).min(axis=1)
                self.assertLess(np.median(off), 0.005)

    def test_every_beat_is_on_the_leader_s(self):
        (warp,) = self.link.stretches
        played = self.follower.beats < warp.source_sec[-1]
        off = (warp.to_target(self.follower.beats) - self.leader.beats)[played]
        self.assertLess(np.abs(off).max(), 0.03)
        self.assertLess(np.median(np.abs(off)), 0.005)

    def test_linked_by_bars_the_beats_are_the_maps_own(self):
        (warp,) = link_by_bars(self.leader.truth, self.follower.truth).stretches
        np.testing.assert_allclose(warp.to_target(self.follower.beats), self.leader.beats, atol=1e-9)
        with self.assertRaises(WarpError):
            link_by_bars(self.leader.truth, self.follower.truth, 500)

    def test_agreement_is_told(self):
        (warp,) = self.link.stretches
        count, off = agreement(warp, self.leader.tracks, self.follower.tracks)
        self.assertGreater(count, 200)
        self.assertLess(off, 0.005)
        self.assertEqual(agreement(warp, [], self.follower.tracks), (0, 0.0))

    def test_as_plain_data_and_back(self):
        again = Link.from_json(self.link.to_json())
        np.testing.assert_array_equal(again.stretches[0].source_sec, self.link.stretches[0].source_sec)


class Different(TestCase):
    """Each take as a mix on one track; places within half a bar."""

    def check(self, leads, follows, expected, kinds=(False,)):
        for drums in kinds:
            with self.subTest(drums=drums):
                leader, follower = take(96, 0, leads, drums), take(103, 1, follows, drums)
                found = linked(leader, follower)
                bars = [
                    [
                        *(bar_of(follower, t) for t in s.source_sec[[0, -1]]),
                        *(bar_of(leader, t) for t in s.target_sec[[0, -1]]),
                    ]
                    for s in found.stretches
                ]
                self.assertEqual(len(bars), len(expected), bars)
                np.testing.assert_allclose(bars, expected, atol=0.6)

    def test_a_verse_that_the_follower_lacks(self):
        self.check(SONG, SONG[:6] + SONG[10:], [[0, 6, 0, 6], [6, 12, 10, 16]], (True, False))

    def test_a_verse_that_only_the_follower_has(self):
        self.check(SONG[:6] + SONG[10:], SONG, [[0, 6, 0, 6], [10, 16, 6, 12]])

    def test_one_comes_in_later(self):
        self.check(SONG[4:], SONG, [[4, 16, 0, 12]])

    def test_a_solo_of_their_own_is_not_stretched_over(self):
        leads, follows = SONG[:8] + tuple(range(48, 54)) + SONG[8:], SONG[:8] + tuple(range(56, 60)) + SONG[8:]
        self.check(leads, follows, [[0, 8, 0, 8], [12, 20, 14, 22]])

    def test_another_song_is_refused(self):
        for drums in (True, False):
            with self.subTest(drums=drums), self.assertRaisesRegex(WarpError, "do not sound alike"):
                linked(take(103, 1, SONG, drums), take(96, 5, tuple(b + 32 for b in SONG), drums, OTHER_ROOTS))

    def test_nothing_to_link(self):
        with self.assertRaisesRegex(WarpError, "too short"):
            link_by_sound([], take(103, 1, SONG[:1]).tracks)


class Jumps(TestCase):
    RATE = 8_000

    def setUp(self):
        t = np.arange(20 * self.RATE) / self.RATE
        self.source = ArraySource((0.3 * np.sin(2 * np.pi * (200 + 20 * t) * t))[:, None].astype(np.float32), self.RATE)

    def sound(self, warp):
        none = np.zeros(0)
        return np.concatenate(list(rendered(self.source, warp, "blend", none, 0, length(warp, self.source))))[:, 0]

    def gap(self, leader, follower, how="jump"):
        a, b = leader
        c, d = follower
        link = Link((Warp([0.0, c], [0.0, a]), Warp([d, 20.0], [b, b + 20 - d])))
        return follow(link, [how])

    def test_what_only_the_leader_has_is_silence(self):
        warp = self.gap((8.0, 13.0), (8.0, 8.001))
        x = self.sound(warp)
        self.assertEqual(len(x), 25 * self.RATE - round(0.001 * self.RATE))
        self.assertEqual(np.abs(x[round(8.1 * self.RATE) : round(12.9 * self.RATE)]).max(), 0)
        own = self.source.read(0, 20 * self.RATE)[:, 0]
        np.testing.assert_array_equal(x[: round(7.9 * self.RATE)], own[: round(7.9 * self.RATE)])
        np.testing.assert_array_equal(x[-6 * self.RATE :], own[-6 * self.RATE :])

    def test_what_only_the_follower_has_is_left_out(self):
        warp = self.gap((8.0, 8.001), (8.0, 13.0))
        x = self.sound(warp)
        own = self.source.read(0, 20 * self.RATE)[:, 0]
        self.assertAlmostEqual(len(x) / self.RATE, 15.0, 2)
        np.testing.assert_array_equal(x[-6 * self.RATE :], own[-6 * self.RATE :])
        self.assertLess(np.abs(np.diff(x)).max(), 0.5)  # no click where it jumps

    def test_what_both_have_is_played_on(self):
        warp = self.gap((8.0, 12.0), (8.0, 9.0))
        self.assertAlmostEqual(float(warp.to_target(8.9)), 8.9, 9)
        self.assertAlmostEqual(float(warp.to_target(9.0)), 12.0, 9)

    def test_nothing_is_jumped_or_stretched_before_it_is_confirmed(self):
        warp = self.gap((8.0, 13.0), (8.0, 8.001), how="")
        np.testing.assert_allclose(warp.to_target([5.0, 15.0]), [5.0, 15.0])

    def test_the_same_music_played_unlike_is_stretched(self):
        warp = self.gap((8.0, 12.0), (8.0, 11.0), how="stretch")
        self.assertAlmostEqual(float(warp.to_target(9.5)), 10.0, 9)

    def test_the_cost_report_counts_no_jump_as_a_stretch(self):
        found = cost(self.gap((8.0, 13.0), (8.0, 8.001)), np.zeros(0), 20.0)
        self.assertAlmostEqual(found.largest, 1.0)
        self.assertTrue(all(1 / JUMP <= p.stretch <= JUMP for p in found.places))


class Refining(TestCase):
    def test_the_path_is_as_cheap_as_librosa_s(self):
        """librosa.sequence.dtw (Müller, "Fundamentals of Music Processing", 2015, chapter 3) as the outside judge."""
        rng = np.random.default_rng(3)
        for _ in range(5):
            a, b = rng.random((40, 3)).astype(np.float32), rng.random((55, 3)).astype(np.float32)
            ours = refined(a, b, np.linspace(0, 54, 40), 100)
            distance = np.abs(a[:, None] - b[None]).sum(axis=2)
            weights = np.array([2, 1, 1])
            total, _ = librosa.sequence.dtw(C=distance, weights_mul=weights, subseq=True, backtrack=True)
            price = distance[ours[0, 0], ours[0, 1]]
            for step, (i, j) in zip(np.diff(ours, axis=0), ours[1:], strict=True):
                price += distance[i, j] * (2 if step.all() else 1)
            self.assertAlmostEqual(price, total[-1].min(), 3)
