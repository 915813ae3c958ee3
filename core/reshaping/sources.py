"""What an engine reads from: samples at any place, silence where there are none."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Protocol

import numpy as np

from core import audio
from core.audio import AudioError, Samples

#: Frames that a file's window holds beyond what was asked for: engines read forwards, in overlapping pieces.
_AHEAD = 1 << 18


class SampleSource(Protocol):
    """``frames`` a channel of ``channels`` channels at ``rate`` Hz."""

    rate: int
    channels: int
    frames: int

    def read(self, start: int, stop: int) -> Samples:
        """Samples ``(stop - start, channels)``; silence before the first and after the last."""


class ArraySource:
    """Samples in memory, ``(frames, channels)``."""

    def __init__(self, samples: Samples, rate: int) -> None:
        self.samples = np.ascontiguousarray(samples, dtype=np.float32)
        self.rate = rate
        self.frames, self.channels = self.samples.shape

    def read(self, start: int, stop: int) -> Samples:
        out = np.zeros((max(0, stop - start), self.channels), dtype=np.float32)
        first, last = max(0, start), min(stop, self.frames)
        if first < last:
            out[first - start : last - start] = self.samples[first:last]
        return out


class FileSource:
    """An audio file, of which only a window is held: what was asked for and ``ahead`` frames. ``info``: what the file
    holds, where that is known. Raises :class:`core.audio.AudioError`."""

    def __init__(self, path: Path, ahead: int = _AHEAD, info: audio.AudioInfo | None = None) -> None:
        info = info or audio.inspect(path)
        self.ahead = ahead
        self.path, self.rate, self.channels, self.frames = path, info.rate, info.channels, info.frames
        self._window: Samples = np.zeros((0, self.channels), dtype=np.float32)
        self._start = 0

    def read(self, start: int, stop: int) -> Samples:
        first, last = max(0, start), min(stop, self.frames)
        out = np.zeros((max(0, stop - start), self.channels), dtype=np.float32)
        if first >= last:
            return out
        if not self._start <= first or last > self._start + len(self._window):
            count = min(self.frames, last + self.ahead) - first
            self._window, self._start = audio.read(self.path, first, count), first
        out[first - start : last - start] = self._window[first - self._start : last - self._start]
        return out


class Together:
    """Several recordings of one rate as the channels of one: engines treat all channels alike, so that they stay in
    phase. Raises :class:`core.audio.AudioError` where their rates differ."""

    def __init__(self, members: Sequence[SampleSource]) -> None:
        rates = {m.rate for m in members}
        if len(rates) != 1:
            raise AudioError("Tracks that move together need one sample rate.")
        self.members = tuple(members)
        self.rate = rates.pop()
        self.channels = sum(m.channels for m in members)
        self.frames = max(m.frames for m in members)

    def read(self, start: int, stop: int) -> Samples:
        return np.concatenate([m.read(start, stop) for m in self.members], axis=1)

    def split(self, block: Samples) -> list[Samples]:
        """The channels of each member again."""
        ends = np.cumsum([m.channels for m in self.members])[:-1]
        return list(np.split(block, ends, axis=1))
