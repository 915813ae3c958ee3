"""Reading recordings: what a file holds, in clear words where it cannot be used, and its samples in blocks."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile as sf
from numpy.typing import NDArray

from core.audio.chunks import walk
from core.errors import InputError

Samples = NDArray[np.float32]

#: Frames a block read from disk: small enough that a two-hour file fits anywhere.
BLOCK = 1 << 19
#: Programs that write while they play leave a size near the largest one; from here on it is none.
_STREAMED = 0xFFFFFFF0
#: Limits of what is read: samples a second, and seconds.
RATES, LONGEST_SEC = (8_000, 384_000), 6 * 3600
FORMATS = "WAV, AIFF, FLAC, OGG or MP3"


class AudioError(InputError):
    """A recording that cannot be used, in words for the engineer."""


@dataclass(frozen=True)
class AudioInfo:
    """``frames`` a channel at ``rate`` Hz; ``missing`` frames that the header promised and the file lacks."""

    rate: int
    channels: int
    frames: int
    format: str
    missing: int = 0

    @property
    def seconds(self) -> float:
        return self.frames / self.rate


def inspect(path: Path, name: str | None = None) -> AudioInfo:
    """What the file at ``path`` holds. Raises :class:`AudioError`, naming the file ``name``."""
    name = name or path.name
    try:
        if path.stat().st_size == 0:
            raise AudioError(f"“{name}” is empty: the file has no bytes.")
        with sf.SoundFile(path) as f:
            info = AudioInfo(f.samplerate, f.channels, f.frames, f.format)
            if f.format in ("MP3", "OGG", "FLAC"):
                info = _measured(f, info)
    except AudioError:
        raise
    except (sf.LibsndfileError, RuntimeError, ValueError):
        raise AudioError(f"“{name}” is not audio that Diachron reads. Use {FORMATS}.") from None
    except OSError as e:
        raise AudioError(f"“{name}” cannot be read: {e.strerror or e}.") from None
    if info.format in ("WAV", "WAVEX"):
        info = _against_header(path, info)
    if info.frames <= 0:
        raise AudioError(f"“{name}” is empty: it is an audio file without a single sample.")
    if not RATES[0] <= info.rate <= RATES[1]:
        raise AudioError(f"“{name}” has a rate of {info.rate} Hz; Diachron reads {RATES[0]} to {RATES[1]} Hz.")
    if info.seconds > LONGEST_SEC:
        raise AudioError(f"“{name}” lasts longer than {LONGEST_SEC // 3600} hours.")
    if info.channels > 2:
        raise AudioError(f"“{name}” has {info.channels} channels. Split it into mono or stereo files first.")
    return info


def _measured(f: sf.SoundFile, info: AudioInfo) -> AudioInfo:
    """Check by seeking that a compressed file goes on as far as its header says; if not, measure it."""
    try:
        if info.frames < (1 << 62):
            f.seek(max(0, info.frames - 2))
            if len(f.read(2)) == min(2, info.frames):
                return info
    except (sf.LibsndfileError, ValueError):  # the decoder may tell a length below zero
        pass
    declared = info.frames if info.frames < (1 << 62) else 0
    good = sum(len(block) for block in blocks(Path(f.name)))
    return AudioInfo(info.rate, info.channels, good, info.format, max(0, declared - good))


def _against_header(path: Path, info: AudioInfo) -> AudioInfo:
    """Compare a WAV's data chunk with the file's end: an interrupted copy promises more than it holds."""
    with path.open("rb") as f:
        data = next((c for c in walk(f) if c.name == b"data"), None)
    if data and 0 < data.declared < _STREAMED and data.declared > data.size and info.frames:
        lost = info.frames * (data.declared - data.size) // max(1, data.size)
        return AudioInfo(info.rate, info.channels, info.frames, info.format, lost)
    return info


def read(path: Path, start: int, count: int) -> Samples:
    """Frames ``start`` to ``start + count`` as float32 ``(frames, channels)``, silence past the end.

    Samples that are not finite read as silence. Raises :class:`AudioError`.
    """
    try:
        with sf.SoundFile(path) as f:
            out = np.zeros((count, f.channels), dtype=np.float32)
            if 0 <= start < f.frames:
                f.seek(start)
                got = f.read(min(count, f.frames - start), dtype="float32", always_2d=True)
                out[: len(got)] = got
    except sf.LibsndfileError as e:
        raise AudioError(f"“{path.name}” cannot be read here: {e}.") from None
    if not np.isfinite(out).all():
        np.nan_to_num(out, copy=False, nan=0.0, posinf=0.0, neginf=0.0)
    return out


def mono(block: Samples) -> NDArray[np.float32]:
    """The mean of a block's channels, ``(frames,)``; where they cancel, as one has its polarity inverted, the first."""
    if block.shape[1] == 1:
        return block[:, 0]
    together = _mean(block)
    return block[:, 0] if _cancels(block, together) else together


#: The share of the channels' energy that is left in mono where one has its polarity inverted; of independent ones half.
_CANCELLED = 0.01


def polarity_is_inverted(block: Samples) -> bool:
    """Whether the channels of a block ``(frames, channels)`` cancel each other out in mono."""
    return block.shape[1] > 1 and _cancels(block, _mean(block))


def _cancels(block: Samples, together: Samples) -> bool:
    left, whole = float(np.vdot(together, together)), float(np.vdot(block, block)) / block.shape[1]
    return bool(left < _CANCELLED * whole)


def _mean(block: Samples) -> NDArray[np.float32]:
    """numpy's own takes twenty times as long over so few channels."""
    total = block[:, 0]
    for channel in range(1, block.shape[1]):
        total = total + block[:, channel]
    return total / np.float32(block.shape[1])


def blocks(path: Path, size: int = BLOCK) -> Iterator[Samples]:
    """The whole file as consecutive float32 blocks ``(frames, channels)``, as far as it can be decoded.

    Samples that are not finite are passed through; see :class:`core.audio.health.Health`.
    """
    done = 0
    while True:
        try:
            # opened again after damage, as a decoder that failed once does not go on
            with sf.SoundFile(path) as f:
                f.seek(done)
                while len(block := f.read(size, dtype="float32", always_2d=True)):
                    done += len(block)
                    yield block
            return
        except (sf.LibsndfileError, ValueError):
            if size <= 1024:
                return
            size //= 8  # closer to where the damage is
