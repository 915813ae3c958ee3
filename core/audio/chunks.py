"""Reads and writes the chunks of RIFF, RF64 and BW64 files.

RIFF: "Multimedia Programming Interface and Data Specifications 1.0" (IBM and Microsoft, 1991); RF64: EBU Tech 3306;
BW64: ITU-R BS.2088.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from typing import BinaryIO

#: What stands in place of a size that does not fit into 32 bits.
TOO_LARGE = 0xFFFFFFFF


@dataclass(frozen=True)
class Chunk:
    """Where a chunk's body lies in its file, in bytes. ``declared``: the size that the file says, which reaches beyond
    its end where it was cut off; ``size``: what is there."""

    name: bytes
    start: int
    size: int
    declared: int

    def body(self, file: BinaryIO, most: int = 1 << 62) -> bytes:
        """Its bytes, the first ``most`` of them."""
        file.seek(self.start)
        return file.read(min(self.size, most))


def is_wave(head: bytes) -> bool:
    """Whether a file that begins with these twelve bytes is a WAV file of any size."""
    return head[:4] in (b"RIFF", b"RF64", b"BW64") and head[8:12] == b"WAVE"


def walk(file: BinaryIO) -> Iterator[Chunk]:
    """The chunks of a WAV file in their order; none of another file."""
    end = file.seek(0, 2)
    file.seek(0)
    if not is_wave(file.read(12)):
        return
    at, data_size = 12, None
    while at + 8 <= end:
        file.seek(at)
        name, declared = struct.unpack("<4sI", file.read(8))
        if declared == TOO_LARGE and name == b"data" and data_size is not None:
            declared = data_size
        chunk = Chunk(name, at + 8, min(declared, end - at - 8), declared)
        if name == b"ds64" and chunk.size >= 16:
            data_size = struct.unpack("<Q", chunk.body(file, 16)[8:])[0]
        yield chunk
        at += 8 + chunk.size + chunk.size % 2


def inside(body: bytes) -> Iterator[tuple[bytes, bytes]]:
    """Names and bodies of the chunks in the body of a ``LIST``, after its kind."""
    at = 4
    while at + 8 <= len(body):
        name, size = struct.unpack_from("<4sI", body, at)
        yield name, body[at + 8 : at + 8 + size]
        at += 8 + size + size % 2


def packed(name: bytes, body: bytes) -> bytes:
    """A chunk as it is written."""
    return name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) % 2)


def cue_points(points: list[tuple[int, int]]) -> bytes:
    """A ``cue `` chunk of numbers and frames."""
    rows = b"".join(struct.pack("<II4sIII", number, frame, b"data", 0, 0, frame) for number, frame in points)
    return packed(b"cue ", struct.pack("<I", len(points)) + rows)


def read_cue_points(body: bytes) -> Iterator[tuple[int, int]]:
    """Numbers and frames of a ``cue `` chunk. Raises ``struct.error``."""
    count = min(struct.unpack_from("<I", body)[0], (len(body) - 4) // 24)
    for k in range(count):
        number, _, _, _, _, frame = struct.unpack_from("<II4sIII", body, 4 + 24 * k)
        yield number, frame


def label(number: int, text: str) -> bytes:
    """A ``labl`` chunk: what a cue point is called. Latin-1, as most readers take it (the standard names no coding);
    what that lacks as UTF-8."""
    try:
        coded = text.encode("latin-1")
    except UnicodeEncodeError:
        coded = text.encode("utf-8")
    return packed(b"labl", struct.pack("<I", number) + coded + b"\0")


def decoded(text: bytes) -> str:
    """Text up to its zero byte, UTF-8 or Latin-1."""
    raw = text.split(b"\0")[0]
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw.decode("latin-1")
