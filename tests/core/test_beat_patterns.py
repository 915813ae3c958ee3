"""Reading a take beat by beat: what is seen of a chain, and that the true pulse looks most like one."""

import numpy as np
from django.test import SimpleTestCase

from core.listening import spectrum
from core.listening.rates import FRAME_RATE, LISTENING_RATE
from core.tracking.beat_patterns import INPUTS, PARTS, RISES, TakeBands, read_pattern


def groove(bpm, bars=12, seed=1):
    """Kick on one and three, snare on two and four, a bass that changes with the bar, hats in eighths; its beats."""
    rng = np.random.default_rng(seed)
    beat = 60 / bpm
    times = 0.5 + beat * np.arange(4 * bars)
    x = np.zeros(int((times[-1] + 2) * LISTENING_RATE))

    def add(at, y):
        i = int(at * LISTENING_RATE)
        x[i : i + len(y)] += y[: len(x) - i]

    t = np.arange(int(0.15 * LISTENING_RATE)) / LISTENING_RATE
    kick = np.sin(2 * np.pi * (50 * t + 30 * np.exp(-40 * t))) * np.exp(-25 * t)
    for k, at in enumerate(times):
        if k % 2 == 0:
            add(at, 0.9 * kick)
        else:
            add(at, 0.4 * rng.standard_normal(len(t)) * np.exp(-30 * t))
        for half in (0, 0.5):
            add(at + half * beat, 0.12 * np.diff(rng.standard_normal(len(t) + 1)) * np.exp(-90 * t))
        if k % 4 == 0:
            long = np.arange(int(3.5 * beat * LISTENING_RATE)) / LISTENING_RATE
            add(at, 0.3 * np.sin(2 * np.pi * 55 * 2 ** ([0, 5, 7, 3][k // 4 % 4] / 12) * long) * np.exp(-long))
    return x.astype(np.float32), times


def bands_of(*signals):
    return TakeBands([(e.bands, e.pitches) for e in (spectrum.evidence([x]) for x in signals)])


class Patterns(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.signal, cls.times = groove(100)
        cls.take = bands_of(cls.signal)

    def test_a_beat_is_cut_into_twelfths(self):
        seen = self.take.along(self.times * FRAME_RATE)
        self.assertEqual(seen.shape, (len(self.times), INPUTS))
        rises = seen[4:-4, : PARTS * RISES].reshape(-1, PARTS, RISES)
        high = rises[:, :, -1].mean(axis=0)
        self.assertEqual(sorted(np.argsort(-high)[:2].tolist()), [0, 6])  # hats: on the beat and half-way
        low = rises[:, 0, 0]
        self.assertGreater(low[::2].mean(), 4 * low[1::2].mean())  # the kick on every other beat

    def test_a_pattern_looks_the_same_at_another_tempo(self):
        other, times = groove(125)
        seen = [
            t.along(at * FRAME_RATE)[4:-4, : PARTS * RISES].mean(axis=0)
            for t, at in ((self.take, self.times), (bands_of(other), times))
        ]
        self.assertGreater(np.corrcoef(seen)[0, 1], 0.97)
        self.assertAlmostEqual(self.take.along(self.times * FRAME_RATE)[5, -1], np.log2(100 / 115), delta=0.01)

    def test_tracks_are_heard_as_their_sum(self):
        quiet = np.zeros_like(self.signal)
        both = bands_of(self.signal, quiet).along(self.times * FRAME_RATE)
        np.testing.assert_allclose(both, self.take.along(self.times * FRAME_RATE), atol=0.02)

    def test_the_pulse_one_counts_looks_most_like_one(self):
        for bpm in (78, 100, 125):
            signal, times = groove(bpm)
            take = bands_of(signal)
            k = np.arange(len(times))
            chains = {
                "true": times,
                "half": times[::2],
                "double": np.interp(np.arange(0, k[-1], 0.5), k, times),
                "off": times[:-1] + 30 / bpm,
            }
            score = {name: read_pattern(take.along(at * FRAME_RATE))[0] for name, at in chains.items()}
            self.assertEqual(max(score, key=score.get), "true", (bpm, score))

    def test_bars_open_where_the_bass_changes(self):
        opens = read_pattern(self.take.along(self.times * FRAME_RATE))[1][4:-4]
        by_place = [opens[k::4].mean() for k in range(4)]
        self.assertEqual(int(np.argmax(by_place)), 0, by_place)

    def test_silence_and_few_beats_can_be_read(self):
        take = bands_of(np.zeros(LISTENING_RATE * 8, dtype=np.float32))
        level, opens = read_pattern(take.along(np.arange(100, 700, 50)))
        self.assertTrue(np.isfinite(level) and np.isfinite(opens).all())
        seen = take.along(np.array([790, 795, 5000]))  # beyond the end too
        self.assertTrue(np.isfinite(seen).all())
