"""A track as a file from time zero to the end of the take, at another rate and depth."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Literal

import numpy as np
import soundfile as sf
import soxr
from numpy.typing import NDArray

from core.audio.files import Samples, blocks

Depth = Literal["16", "24", "float"]
SUBTYPES: dict[Depth, str] = {"16": "PCM_16", "24": "PCM_24", "float": "FLOAT"}
#: Bytes a sample.
WIDTHS: dict[Depth, int] = {"16": 2, "24": 3, "float": 4}
#: Rates that can be chosen.
RATES = (44_100, 48_000, 88_200, 96_000)


def write_stem(
    source: Path,
    target: Path,
    frames: int,
    rate: int,
    depth: Depth,
    progress: Callable[[float], None] = lambda _: None,
    seed: int = 0,
) -> None:
    """Write ``frames`` samples at ``rate`` of a file that starts at time zero: cut or filled with silence.

    Whole numbers are dithered with triangular noise of two steps (TPDF; Lipshitz, Wannamaker and Vanderkooy 1992),
    unless the samples already are such numbers. ``seed``: of the noise, so that a file is the same every time.
    """
    with sf.SoundFile(source) as file:
        channels, own_rate, subtype = file.channels, file.samplerate, file.subtype
    rng = np.random.default_rng(seed)
    exact = own_rate == rate and _bits(subtype) <= {"16": 16, "24": 24, "float": 64}[depth]
    done = 0
    kind = "RF64" if frames * channels * WIDTHS[depth] > 0xFFFF0000 else "WAV"
    with sf.SoundFile(target, "w", rate, channels, SUBTYPES[depth], format=kind) as out:
        for block in _at_rate(source, own_rate, rate, channels):
            piece = block[: frames - done]
            out.write(piece if exact else dithered(piece, depth, rng))
            done += len(piece)
            progress(done / max(1, frames))
            if done >= frames:
                break
        while done < frames:
            count = min(1 << 18, frames - done)
            out.write(np.zeros((count, channels), dtype=np.float32))
            done += count


def dithered(x: NDArray[np.float32], depth: Depth, rng: np.random.Generator) -> NDArray[np.float32]:
    """Samples with the noise that rounding to ``depth`` needs, within full scale; float ones as they are."""
    if depth == "float":
        return x
    step = 2.0 ** (1 - int(depth))
    noise = (rng.random(x.shape, dtype=np.float32) - rng.random(x.shape, dtype=np.float32)) * np.float32(step)
    return np.asarray(np.clip(x + noise, -1, 1 - step), dtype=np.float32)


def _bits(subtype: str) -> int:
    """How many bits a file's samples have; more than any for what is no whole number."""
    return {"PCM_S8": 8, "PCM_U8": 8, "PCM_16": 16, "PCM_24": 24, "PCM_32": 32}.get(subtype, 99)


def _at_rate(source: Path, own: int, rate: int, channels: int) -> Iterator[Samples]:
    if own == rate:
        yield from blocks(source)
        return
    stream = soxr.ResampleStream(own, rate, channels, dtype="float32", quality="VHQ")
    for block in blocks(source):
        yield stream.resample_chunk(block).reshape(-1, channels)
    yield stream.resample_chunk(np.zeros((0, channels), dtype=np.float32), last=True).reshape(-1, channels)
