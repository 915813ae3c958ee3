"""Finished mixes: the percussive part is told from the tones and guides, where there are drums."""

from unittest import TestCase

import librosa
import numpy as np

from core.beats.fusion import Player
from core.beats.mixes import guided, ranks_of_tracks
from core.beats.solve import Wishes, solve
from core.listening import attacks, percussive
from core.listening.audio import LISTENING_RATE
from core.listening.spectrum import evidence
from tests.core.test_listening import strokes


def player(name, x):
    found = evidence([x])
    return Player(name, found, attacks.find(x, found))


class Separating(TestCase):
    def setUp(self):
        self.times = 1 + 0.5 * np.arange(24)
        self.hits = strokes(self.times, LISTENING_RATE, 14, 0.7).astype(np.float32)
        t = np.arange(len(self.hits)) / LISTENING_RATE
        self.tone = sum(0.25 * np.sin(2 * np.pi * f * t) for f in (220, 277, 330)).astype(np.float32)
        self.mix = self.hits + self.tone

    def part(self, x):
        return np.concatenate(list(percussive.separated(x)))

    def test_tones_go_and_strokes_stay(self):
        part = self.part(self.mix)
        self.assertEqual(len(part), len(self.mix))
        between = np.ones(len(part), bool)
        for t in self.times:
            between[round((t - 0.05) * LISTENING_RATE) : round((t + 0.2) * LISTENING_RATE)] = False
        self.assertLess(np.sqrt((part[between] ** 2).mean()), 0.1 * np.sqrt((self.tone[between] ** 2).mean()))
        kept = np.sqrt((part**2).sum() / (self.hits**2).sum())
        self.assertGreater(kept, 0.6)

    def test_about_as_the_reference_library_separates(self):
        # librosa.effects.percussive: the same method (Fitzgerald 2010) with margins of its own
        theirs = librosa.effects.percussive(self.mix)
        self.assertGreater(np.corrcoef(self.part(self.mix), theirs[: len(self.mix)])[0, 1], 0.9)

    def test_pieces_join_without_a_seam(self):
        long = np.tile(self.mix, 6)  # 84 s: two pieces
        whole, seam = self.part(long), 60 * LISTENING_RATE
        alone = percussive._percussive(long[seam - 4 * LISTENING_RATE : seam + 4 * LISTENING_RATE])
        middle = slice(4 * LISTENING_RATE - 2000, 4 * LISTENING_RATE + 2000)
        off = whole[seam - 2000 : seam + 2000] - alone[middle]
        self.assertLess(np.sqrt((off**2).mean()), 0.1 * np.sqrt((alone[middle] ** 2).mean()))

    def test_silence_and_next_to_nothing(self):
        self.assertFalse(self.part(np.zeros(30_000, np.float32)).any())
        self.assertEqual(len(self.part(np.zeros(100, np.float32))), 100)

    def test_attacks_of_the_part_are_placed_on_the_mix(self):
        found = percussive.hear(self.mix)[1].seconds
        near = np.abs(self.times[:, None] - found[None]).min(axis=1)
        self.assertLess(np.median(near), 0.001)
        self.assertLess(near.max(), 0.004)

    def test_drums_in_a_mix_guide(self):
        mix = player("mix", self.mix)
        players, weights = guided(mix, Player("part", *percussive.hear(self.mix)))
        self.assertEqual([weights.get(p.name, 0) for p in players], [0, 1.0])
        solution = solve(players, Wishes(guides=weights))
        self.assertEqual([r.name for r in ranks_of_tracks(solution.ranks)], ["mix"])
        beats = solution.map.beats().seconds
        near = np.abs(self.times[:, None] - beats[None]).min(axis=1)
        self.assertLess(np.median(near), 0.003)

    def test_without_drums_the_mix_stands_alone(self):
        t = np.arange(14 * LISTENING_RATE) / LISTENING_RATE
        soft = (self.tone[: len(t)] * (0.6 + 0.4 * np.sin(2 * np.pi * 1.0 * t[: len(self.tone)]))).astype(np.float32)
        players, weights = guided(player("mix", soft), Player("part", *percussive.hear(soft)))
        self.assertEqual(([p.name for p in players], weights), (["mix"], {}))
