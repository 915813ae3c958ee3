"""Analysed tracks, stored and read back."""

import os
import tempfile
from pathlib import Path
from unittest import TestCase, mock

import numpy as np
import soundfile as sf

from core.analysis import Source, analyse_sources, pipeline
from core.cli.common import Cache
from core.listening import stored
from core.listening.attacks import Attacks
from core.listening.spectrum import Evidence
from core.listening.track import AnalysedTrack


class Files(TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.path = self.folder / "a.npz"
        hits = Attacks(np.array([0.5, 1.25]), np.array([1.0, 0.5]), np.array([0.0, 1.0]))
        self.track = AnalysedTrack("a", Evidence.of_silence(300), hits, 3.0, ("It is silent.",))

    def test_it_comes_back_as_it_was(self):
        stored.write(self.path, self.track)
        back = stored.read(self.path, "a")
        self.assertEqual((back.seconds, back.remarks), (3.0, ("It is silent.",)))
        for name, values in (vars(self.track.evidence) | vars(self.track.attacks)).items():
            again = getattr(back.evidence if hasattr(back.evidence, name) else back.attacks, name)
            np.testing.assert_array_equal(again, values)
            self.assertEqual(again.dtype, values.dtype)

    def test_another_version_and_damage_are_not_read(self):
        self.assertIsNone(stored.read(self.path, "a"))
        stored.write(self.path, self.track)
        with mock.patch.object(stored, "VERSION", stored.VERSION + 1):
            self.assertIsNone(stored.read(self.path, "a"))
        whole = self.path.read_bytes()
        for size in (0, 10, len(whole) // 2, len(whole) - 20):
            self.path.write_bytes(whole[:size])
            self.assertIsNone(stored.read(self.path, "a"), size)

    def test_the_oldest_go_first(self):
        for k in range(4):
            path = self.folder / f"{k}.npz"
            stored.write(path, self.track)
            os.utime(path, (k, k))
        size = (self.folder / "0.npz").stat().st_size
        stored.prune(self.folder, round(2.5 * size))
        self.assertEqual(sorted(p.name for p in self.folder.glob("*.npz")), ["2.npz", "3.npz"])

    def test_a_file_is_analysed_once_whatever_its_name(self):
        rng = np.random.default_rng(1)
        x = 0.01 * rng.standard_normal(22_050 * 5)
        x[::11_025] = 0.9
        for name in ("one.wav", "two.wav"):
            sf.write(self.folder / name, x, 22_050)
        cache = Cache(self.folder / "cache")
        (first,) = analyse_sources([Source(self.folder / "one.wav", "one.wav")], cache)
        with mock.patch.object(pipeline, "analyse_source", side_effect=AssertionError("analysed again")):
            (second,) = analyse_sources([Source(self.folder / "two.wav", "two.wav")], cache)
        self.assertEqual((second.name, second.seconds), ("two.wav", first.seconds))
        np.testing.assert_array_equal(second.attacks.seconds, first.attacks.seconds)
        np.testing.assert_array_equal(second.evidence.bands, first.evidence.bands)
