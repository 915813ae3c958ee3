"""Strokes and tones of a mix: they add up to it, each holds its own, and pieces join.

Fitzgerald 2010; beside it librosa's implementation of the same paper.
"""

import numpy as np
import soundfile as sf

from core.audio import separation
from core.audio.separation import separated, write_parts
from tests.core.test_listening import Folder

RATE = 22_050


def mix(seconds=6.0):
    """Noise strokes over held tones, and each alone."""
    t = np.arange(round(seconds * RATE)) / RATE
    tones = 0.2 * sum(np.sin(2 * np.pi * f * t) for f in (220.0, 277.18, 329.63))
    strokes = np.zeros(len(t))
    rng = np.random.default_rng(1)
    for at in np.arange(0.5, seconds - 0.3, 0.5):
        k = round(at * RATE)
        strokes[k : k + 2000] += 0.5 * rng.standard_normal(2000) * np.exp(-np.arange(2000) / 300)
    return strokes.astype(np.float32), tones.astype(np.float32)


def ratio(found, wanted):
    """Signal against everything else, in dB."""
    return 10 * np.log10((wanted**2).sum() / ((found - wanted) ** 2).sum())


class Separation(Folder):
    def test_strokes_and_tones_are_told_apart_as_well_as_by_another_implementation(self):
        import librosa  # its compiled functions do not survive the fork of the test runner

        strokes, tones = mix()
        found = separated((strokes + tones)[:, None], RATE)[:, 0]
        other = librosa.effects.percussive(strokes + tones, n_fft=1024)
        self.assertGreater(ratio(found, strokes), 8)
        self.assertGreater(ratio(strokes + tones - found, tones), 8)
        self.assertGreater(ratio(found, strokes), ratio(other, strokes) - 1)

    def test_both_files_add_up_to_the_recording_and_pieces_join(self):
        strokes, tones = mix(5.0)
        whole = np.column_stack([0.4 * (strokes + tones), 0.5 * tones])
        path = self.folder / "mix.wav"
        sf.write(path, whole, RATE, "PCM_24")
        separation._PIECE, kept = 1.3, separation._PIECE
        self.addCleanup(setattr, separation, "_PIECE", kept)
        out = [self.folder / "strokes.flac", self.folder / "tones.flac"]
        told = []
        write_parts(path, *out, told.append)
        made = [sf.read(p)[0] for p in out]
        self.assertEqual(made[0].shape, whole.shape)
        np.testing.assert_allclose(made[0] + made[1], sf.read(path)[0], atol=4e-7)
        at_once = separated(sf.read(path, dtype="float32")[0], RATE)
        self.assertGreater(ratio(made[0][:, 0], at_once[:, 0]), 25)
        self.assertAlmostEqual(told[-1], 1)

    def test_silence_stays_silent(self):
        self.assertFalse(separated(np.zeros((RATE, 1), dtype=np.float32), RATE).any())
