"""Real recordings: drum loops of known length from Debian's sonic-pi-samples (each loop CC0 or CC BY, as that package's
copyright file lists them; they are read from where they are installed, nothing of them is part of the project)."""

from pathlib import Path
from unittest import TestCase, skipUnless

import numpy as np
import soundfile as sf

from core.listening.rates import LISTENING_RATE
from core.tracking.beat_tracker import track_beats
from tests.core import takes
from tests.shared import key_of, pickled_once

SAMPLES = Path("/usr/share/sonic-pi/samples")


@skipUnless(SAMPLES.exists(), "sonic-pi-samples is not installed")
class Loops(TestCase):
    """A loop of so many beats, repeated without a gap: its beat divides its length exactly (common practice)."""

    def found(self, name: str, beats: int, times: int):
        import soxr

        x, rate = sf.read(SAMPLES / f"{name}.flac", dtype="float32", always_2d=True)
        x = np.tile(x.mean(axis=1), times)
        beat = len(x) / rate / times / beats

        def listen():
            return takes.to_track(name, soxr.resample(x, rate, LISTENING_RATE).astype(np.float32))

        return track_beats([pickled_once(key_of(name, x), listen, "takes")]).map.beats().seconds, beat

    def test_a_breakbeat_of_sixteen_beats(self):
        seconds, beat = self.found("loop_amen_full", 16, 5)
        self.assertAlmostEqual(float(np.diff(seconds).mean()), beat, delta=1e-4)
        away = (seconds + beat / 2) % beat - beat / 2
        self.assertLess(np.abs(away).max(), 0.012)

    def test_a_loop_is_cut_on_its_first_beat_which_is_bar_one(self):
        for name, times in (("loop_amen", 16), ("loop_breakbeat", 16)):
            with self.subTest(name):
                seconds, beat = self.found(name, 4, times)
                np.testing.assert_allclose(seconds[: 4 * times], beat * np.arange(4 * times), atol=0.012)

    def test_a_loop_of_a_machine(self):
        seconds, beat = self.found("loop_compus", 16, 5)
        self.assertAlmostEqual(float(np.diff(seconds).mean()), beat, delta=1e-4)

    def test_hand_drums_and_an_electric_loop_keep_their_length(self):
        """At which level they are felt is open; that their beats divide the loop is not."""
        for name, beats, times in (("loop_tabla", 16, 3), ("loop_electric", 4, 12), ("loop_breakbeat", 4, 16)):
            seconds, beat = self.found(name, beats, times)
            ratio = float(np.diff(seconds).mean()) / beat
            self.assertLess(min(abs(ratio / r - 1) for r in (0.5, 1, 2)), 5e-4, name)
