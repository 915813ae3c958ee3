"""Lean: made-up tracks with known offsets are recovered within a millisecond."""

from unittest import TestCase

import numpy as np

from core.following.lean import lean
from core.instruments import voices
from core.instruments.render import render_notes
from core.listening.distance import delays
from core.tempomap import Meters
from tests.core import takes


class Leaning(TestCase):
    @classmethod
    def setUpClass(cls):
        bars = 24
        meters = Meters.of((1, "4/4"))
        cls.truth = takes.tempo_map(takes.drift(4 * bars + 1, 108, 4), meters)
        strokes = [takes.Stroke(float(q), 45, level=0.9) for q in range(4 * bars)]
        late = [takes.Stroke(float(q), 45, level=0.9) for q in range(0, 4 * bars, 2)]
        parts = {
            "kick": (voices.thump, strokes, 0.0),
            "late": (voices.thump, late, 0.008),
            "early": (voices.thump, strokes[1::2], -0.006),
        }
        made = takes.record(cls.truth, parts, jitter=0.003)
        rng = np.random.default_rng(12)
        frames = round((float(cls.truth.seconds[-1]) + 1.5) * takes.RATE)
        # a microphone 12 ms away hears what those at the drum and at the fiddle do, and its own noise
        notes = takes.played(takes.Performer("both", voices.frame_drum, tuple(strokes), 0.0, 0.003), cls.truth, rng)
        near = [render_notes(notes, v, takes.RATE, frames, rng) for v in (voices.frame_drum, voices.dulcimer)]
        room = np.concatenate([np.zeros(round(0.012 * takes.RATE)), near[0] + near[1]])[:frames]
        room += 0.002 * rng.standard_normal(frames)
        cls.late = delays([*near, room], takes.RATE)
        tracks = [*made.tracks, takes.to_track("room", room)]
        cls.found = {x.name: x for x in lean(cls.truth, tracks, [0.0, 0.0, 0.0, float(cls.late[-1])])}

    def test_who_drags_and_who_pushes(self):
        self.assertAlmostEqual(self.found["kick"].average, 0, delta=1)
        self.assertAlmostEqual(self.found["late"].average, 8, delta=1)
        self.assertAlmostEqual(self.found["early"].average, -6, delta=1)

    def test_a_distant_microphone_is_no_late_player(self):
        np.testing.assert_array_equal(self.late[:2], 0)
        room = self.found["room"]
        self.assertAlmostEqual(room.delay, 12, delta=1)
        self.assertAlmostEqual(room.average, 0, delta=1)

    def test_without_a_distant_microphone_none_is_found(self):
        noise = np.random.default_rng(3).standard_normal((3, 4 * takes.RATE))
        np.testing.assert_array_equal(delays(list(noise), takes.RATE), 0)
        self.assertEqual(len(delays(list(noise[:1]), takes.RATE)), 1)

    def test_spread_is_the_player_s_own(self):
        for name in ("kick", "late", "early"):
            self.assertAlmostEqual(self.found[name].spread, 3, delta=1)

    def test_by_beat_of_the_bar(self):
        late = self.found["late"].by_beat
        np.testing.assert_allclose(late[[0, 2]], 8, atol=1.6)
        self.assertTrue(np.isnan(late[[1, 3]]).all())
        self.assertAlmostEqual(self.found["late"].share, 0.5, delta=0.02)
