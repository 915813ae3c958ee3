"""Stretches of a recording turned down, with fades: a source on top of a source."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from core.audio import Samples
from core.reshaping.plan import Hush
from core.reshaping.sources import SampleSource

#: Gains below this are silence, in dB.
_SILENT = -100.0


class Hushed:
    """``source`` with its hushes; what lies outside them stays to the bit."""

    def __init__(self, source: SampleSource, hushes: Sequence[Hush]) -> None:
        self.whole, self.hushes = source, tuple(hushes)
        self.rate, self.channels, self.frames = source.rate, source.channels, source.frames

    def read(self, start: int, stop: int) -> Samples:
        block = self.whole.read(start, stop)
        for hush in self.hushes:
            first, last = round(hush.start * self.rate), round(hush.end * self.rate)
            a, b = max(first, start), min(last, stop)
            if a >= b:
                continue
            fade = max(1, min(round(hush.fade * self.rate), (last - first) // 2))
            at = np.arange(a, b)
            down = np.clip(np.minimum(at - first, last - 1 - at) / fade, 0.0, 1.0)
            floor = 0.0 if hush.gain_db <= _SILENT else 10 ** (hush.gain_db / 20)
            gain = 1 + (floor - 1) * (0.5 - 0.5 * np.cos(np.pi * down))
            block[a - start : b - start] *= gain[:, None].astype(np.float32)
        return block
