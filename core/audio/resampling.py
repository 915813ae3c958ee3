"""Recordings at another rate: as a mono stream to listen to, or as a file to play beside others."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import soundfile as sf
import soxr

from core.audio.files import Samples, blocks, mono
from core.audio.health import Health


def mono_at(path: Path, rate: int, source_rate: int) -> Iterator[Samples]:
    """A file of ``source_rate`` as consecutive mono blocks at ``rate``."""
    stream = soxr.ResampleStream(source_rate, rate, 1, dtype="float32", quality="MQ")
    for block in blocks(path):
        yield stream.resample_chunk(mono(block))
    yield stream.resample_chunk(np.zeros(0, dtype=np.float32), last=True)


def write_at_rate(path: Path, target: Path, rate: int, lead: int = 0) -> None:
    """Write ``path`` resampled to ``rate`` as a 24-bit FLAC at ``target``, for playback beside other tracks; after
    ``lead`` samples of silence, where it starts later than they do."""
    with sf.SoundFile(path) as f:
        source_rate, channels = f.samplerate, f.channels
    resampler = soxr.ResampleStream(source_rate, rate, channels, dtype="float32", quality="VHQ")
    health = Health()
    partial = target.with_suffix(".partial")
    with sf.SoundFile(partial, "w", rate, channels, "PCM_24", format="FLAC") as out:
        out.write(np.zeros((lead, channels), dtype=np.float32))
        for block in blocks(path):
            out.write(resampler.resample_chunk(health.check(block)))
        out.write(resampler.resample_chunk(np.zeros((0, channels), dtype=np.float32), last=True))
    partial.replace(target)
