"""A sound file that grows while it is recorded: 32-bit float WAV, readable by everybody once it was closed.

The header is written first, with room for the sizes of a file beyond 4 GB (RF64, EBU Tech 3306); closing fills them in.
What was appended up to a power cut is there: a file that nobody closed can be closed later.
"""

from __future__ import annotations

import os
import struct
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from core.errors import InputError

#: Bytes in front of the samples: RIFF, room for ds64, format, fact, data.
HEADER = 12 + 36 + 26 + 12 + 8
_WIDTH = 4
_LARGEST_RIFF = 0xFFFFFFFF
_FLOAT = 3


class OutOfStep(InputError):
    """Samples that do not go on where the file ends; ``frames``: how many it has."""

    def __init__(self, frames: int) -> None:
        super().__init__(f"The file goes on at frame {frames}.")
        self.frames = frames


def begin(path: Path, rate: int, channels: int) -> None:
    """Make an empty file at ``path``."""
    path.write_bytes(_header(rate, channels, 0))


def frames(path: Path, channels: int) -> int:
    """How many whole frames have arrived."""
    return max(0, path.stat().st_size - HEADER) // (_WIDTH * channels)


def append(path: Path, channels: int, at: int, samples: bytes) -> int:
    """Add interleaved little-endian float32 samples that begin at frame ``at``; returns how many frames there are.

    Samples that came before are left out, so that whoever got no answer may send again. They are on the disk when this
    returns. Raises :class:`OutOfStep` where some in between are missing, and :class:`core.errors.InputError` for a
    broken frame.
    """
    width = _WIDTH * channels
    if len(samples) % width:
        raise InputError("The samples end inside a frame.")
    here = frames(path, channels)
    if at > here:
        raise OutOfStep(here)
    fresh = samples[(here - at) * width :]
    with path.open("r+b") as f:
        f.seek(HEADER + here * width)  # over what a power cut left of a frame
        f.write(fresh)
        f.flush()
        os.fsync(f.fileno())
    return here + len(fresh) // width


def close(path: Path, rate: int, channels: int) -> int:
    """Fill in the sizes; returns the frames. Closing a closed file changes nothing."""
    count = frames(path, channels)
    with path.open("r+b") as f:
        f.truncate(HEADER + count * _WIDTH * channels)
        f.write(_header(rate, channels, count))
        f.flush()
        os.fsync(f.fileno())
    return count


def so_far(path: Path, channels: int) -> NDArray[np.float32]:
    """What has arrived, ``(frames, channels)``, read from the disk as it is needed."""
    count = frames(path, channels)
    if not count:
        return np.zeros((0, channels), dtype=np.float32)
    return np.memmap(path, dtype="<f4", mode="r", offset=HEADER, shape=(count, channels))


def _header(rate: int, channels: int, count: int) -> bytes:
    size = count * _WIDTH * channels
    riff = size + HEADER - 8
    large = riff > _LARGEST_RIFF
    room = struct.pack("<QQQI", riff, size, count, 0) if large else bytes(28)
    return b"".join(
        (
            b"RF64" if large else b"RIFF",
            struct.pack("<I", _LARGEST_RIFF if large else riff),
            b"WAVE",
            b"ds64" if large else b"JUNK",
            struct.pack("<I", 28),
            room,
            b"fmt ",
            struct.pack(
                "<IHHIIHHH", 18, _FLOAT, channels, rate, rate * channels * _WIDTH, channels * _WIDTH, 8 * _WIDTH, 0
            ),
            b"fact",
            struct.pack("<II", 4, min(count, _LARGEST_RIFF)),
            b"data",
            struct.pack("<I", _LARGEST_RIFF if large else size),
        )
    )
