"""Listening to one track: peaks to draw, evidence and attacks to find beats with."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soxr

from core.listening import attacks, audio
from core.listening.attacks import Attacks
from core.listening.audio import AudioInfo, Health
from core.listening.peaks import PeakMaker, Peaks
from core.listening.spectrum import Evidence, evidence

#: Called with the share done, 0 to 1; may raise to stop the work.
Progress = Callable[[float], None]


def no_progress(_: float) -> None:
    """For callers that do not watch."""


@dataclass(frozen=True)
class Heard:
    """All that listening to a track found out. ``remarks`` are sentences for the engineer."""

    name: str
    seconds: float
    evidence: Evidence
    attacks: Attacks
    peaks: dict[int, Peaks]
    remarks: list[str]


def listen(path: Path, name: str, info: AudioInfo | None = None, progress: Progress = no_progress) -> Heard:
    """Listen to the file at ``path`` once, block by block. Raises :class:`core.listening.audio.AudioError`.

    The mono signal at the listening rate (4.8 MB a minute) is the only thing held whole.
    """
    info = info or audio.inspect(path, name)
    health, peaks = Health(), PeakMaker()
    resampler = soxr.ResampleStream(info.rate, audio.LISTENING_RATE, 1, dtype="float32", quality="MQ")
    parts, done = [], 0
    for block in audio.blocks(path):
        block = health.check(block)
        peaks.add(block)
        parts.append(resampler.resample_chunk(block.mean(axis=1)))
        done += len(block)
        progress(0.5 * min(1.0, done / max(1, info.frames)))
    parts.append(resampler.resample_chunk(np.zeros(0, dtype=np.float32), last=True))
    signal = np.concatenate(parts)
    found = evidence(signal[i : i + audio.BLOCK] for i in range(0, len(signal), audio.BLOCK))
    progress(0.9)
    hits = attacks.find(signal, found) if health.peak >= 1e-5 else attacks.NONE
    progress(1.0)
    return Heard(name, info.seconds, found, hits, peaks.levels(), health.remarks(info))
