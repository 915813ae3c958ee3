"""Chords of made-up songs in six styles, judged by the rules of MIREX as mir_eval has them (Raffel et al. 2014)."""

from unittest import TestCase

import numpy as np
from django.conf import settings

from bench.chord_songs import STYLES, make
from bench.chords import found_by_beat, scores
from tests.shared import key_of, pickled_once

SET = (settings.SOUND_SET, settings.SOUND_SET.stat().st_mtime_ns)


class SixStyles(TestCase):
    def test_roots_and_thirds_by_beat(self):
        """The whole round, with more and longer songs, is ``python -m bench.chords``."""
        right = {}
        for style in STYLES:
            song = pickled_once(f"{style}-{key_of(SET)}", lambda style=style: make(style, 1000, SET, bars=6), "songs")
            found, confidence = found_by_beat(song)
            self.assertEqual(len(found), len(song.chords))
            self.assertTrue(((confidence >= 0) & (confidence <= 1)).all())
            right[style] = scores(song, found)["thirds"]
        self.assertGreater(np.mean(list(right.values())), 0.88, right)
        for style in ("ballad", "rock", "waltz", "folk", "pop"):
            self.assertGreater(right[style], 0.75, right)
