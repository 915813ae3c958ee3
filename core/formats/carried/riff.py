"""A map inside a WAV file: every bar line and section as a labelled cue point, and an ``id3 `` chunk.

Published: ``cue `` and ``LIST adtl`` in "Multimedia Programming Interface and Data Specifications 1.0" (IBM and
Microsoft, 1991); ``bext`` in EBU Tech 3285 version 2 (2011); files of more than 4 GB as RF64 or BW64, EBU Tech 3306
(2009) and ITU-R BS.2088 (2019). Sound and all other chunks are copied as they are.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import BinaryIO

from core.formats.carried import id3
from core.formats.carried.content import CarriedMap, CarryError

#: Our cue points have numbers from here on; those of others stay.
OURS = 1_000_000
#: What stands in place of a size that does not fit into 32 bits; files larger than the second are written as RF64.
_LARGE = 0xFFFFFFFF
_LARGEST_RIFF = 0xFFFFFFFF
#: Bytes that are copied at a time, and of a chunk that is read as a whole, at most.
_PIECE, _LARGEST_READ = 1 << 20, 64 << 20
_READ_WHOLE = (b"fmt ", b"ds64", b"cue ", b"LIST", b"id3 ", b"ID3 ", b"bext")
_BEXT_SIZE = 602


@dataclass(frozen=True)
class Chunk:
    """Where a chunk's body lies in its file, in bytes; ``body`` where it was read."""

    name: bytes
    start: int
    size: int
    body: bytes = b""


@dataclass(frozen=True)
class CuePoint:
    """``frame`` in the file; ``length`` in frames, 0 for a mere point."""

    number: int
    frame: int
    label: str = ""
    length: int = 0


@dataclass
class Wave:
    """A file's chunks and what they say. ``kind``: RIFF, RF64 or BW64."""

    kind: bytes
    chunks: list[Chunk]
    rate: int = 0
    cues: list[CuePoint] = field(default_factory=list)
    tag: id3.Tag = field(default_factory=id3.Tag)


def is_wave(head: bytes) -> bool:
    return head[:4] in (b"RIFF", b"RF64", b"BW64") and head[8:12] == b"WAVE"


def opened(file: BinaryIO) -> Wave:
    """The chunks of a file. Raises :class:`CarryError` on what is no WAV file."""
    file.seek(0)
    head = file.read(12)
    if not is_wave(head):
        raise CarryError("This is no WAV file.")
    try:
        wave = Wave(head[:4], list(_chunks(file)))
        bodies = {c.name: c.body for c in wave.chunks if c.body}
        wave.rate = struct.unpack_from("<I", bodies[b"fmt "], 4)[0]
        wave.cues = _cues(wave.chunks)
        wave.tag = id3.parse(bodies.get(b"id3 ", bodies.get(b"ID3 ", b"")))
    except (struct.error, KeyError):
        raise CarryError("The parts of this WAV file do not fit together.") from None
    return wave


def write(source: BinaryIO, target: BinaryIO, carried: CarriedMap) -> None:
    """Copy a file with the map in it. Raises :class:`CarryError`."""
    wave = opened(source)
    kept = [c for c in wave.chunks if c.name not in (b"cue ", b"id3 ", b"ID3 ", b"ds64", b"JUNK") and not _is_adtl(c)]
    added = [] if any(c.name == b"bext" for c in kept) else [_chunk(b"bext", _bext(carried.title))]
    cues = [c for c in wave.cues if c.number < OURS] + _our_cues(carried, wave.rate)
    others = [body for c in wave.chunks if _is_adtl(c) for body in _kept_labels(c.body)]
    added += [_cue_chunk(cues), _chunk(b"LIST", b"adtl" + b"".join(others) + _labels(cues))]
    added.append(_chunk(b"id3 ", id3.with_map(wave.tag, carried)))
    _write(source, target, kept, added)


def _write(source: BinaryIO, target: BinaryIO, kept: Sequence[Chunk], added: Sequence[bytes]) -> None:
    """A file of chunks that are copied and chunks that are new."""
    size = 4 + sum(8 + c.size + c.size % 2 for c in kept) + sum(map(len, added))
    data = next((c for c in kept if c.name == b"data"), None)
    if data is None:
        raise CarryError("This WAV file holds no sound.")
    large = size + 36 > _LARGEST_RIFF
    target.write((b"RF64" if large else b"RIFF") + struct.pack("<I", _LARGE if large else size) + b"WAVE")
    if large:
        frame_bytes = max(1, struct.unpack_from("<H", next(c.body for c in kept if c.name == b"fmt "), 12)[0])
        sizes = struct.pack("<QQQI", size + 36, data.size, data.size // frame_bytes, 0)
        target.write(_chunk(b"ds64", sizes))
    for chunk in kept:
        big = chunk.size > _LARGE
        target.write(chunk.name + struct.pack("<I", _LARGE if big or (large and chunk is data) else chunk.size))
        _copy(source, target, chunk)
    for made in added:
        target.write(made)


def write_tag(source: BinaryIO, target: BinaryIO, change: Callable[[id3.Tag], bytes]) -> None:
    """Copy a file with its ``id3 `` chunk changed. Raises :class:`CarryError`."""
    wave = opened(source)
    kept = [c for c in wave.chunks if c.name not in (b"id3 ", b"ID3 ", b"ds64", b"JUNK")]
    _write(source, target, kept, [_chunk(b"id3 ", change(wave.tag))])


def _copy(source: BinaryIO, target: BinaryIO, chunk: Chunk) -> None:
    source.seek(chunk.start)
    left = chunk.size
    while left:
        piece = source.read(min(_PIECE, left))
        if not piece:
            raise CarryError("This WAV file ends before its sound does.")
        target.write(piece)
        left -= len(piece)
    if chunk.size % 2:
        target.write(b"\0")


def _chunks(file: BinaryIO) -> Iterator[Chunk]:
    end = file.seek(0, 2)
    at, data_size = 12, None
    while at + 8 <= end:
        file.seek(at)
        name, size = struct.unpack("<4sI", file.read(8))
        if size == _LARGE and name == b"data" and data_size is not None:
            size = data_size
        # a recorder that was cut off leaves sizes that reach beyond its file
        size = min(size, end - at - 8)
        body = file.read(size) if name in _READ_WHOLE and size <= _LARGEST_READ else b""
        if name == b"ds64":
            data_size = struct.unpack_from("<Q", body, 8)[0]
        yield Chunk(name, at + 8, size, body)
        at += 8 + size + size % 2


def _is_adtl(chunk: Chunk) -> bool:
    return chunk.name == b"LIST" and chunk.body[:4] == b"adtl"


def _inside(body: bytes) -> Iterator[tuple[bytes, bytes]]:
    at = 0
    while at + 8 <= len(body):
        name, size = struct.unpack_from("<4sI", body, at)
        yield name, body[at + 8 : at + 8 + size]
        at += 8 + size + size % 2


def _cues(chunks: Sequence[Chunk]) -> list[CuePoint]:
    frames: dict[int, int] = {}
    labels: dict[int, str] = {}
    lengths: dict[int, int] = {}
    for chunk in chunks:
        if chunk.name == b"cue " and chunk.body:
            count = min(struct.unpack_from("<I", chunk.body)[0], (len(chunk.body) - 4) // 24)
            for k in range(count):
                number, _, _, _, _, frame = struct.unpack_from("<II4sIII", chunk.body, 4 + 24 * k)
                frames[number] = frame
        elif _is_adtl(chunk):
            for name, body in _inside(chunk.body[4:]):
                if len(body) < 4:
                    continue
                number = struct.unpack_from("<I", body)[0]
                if name == b"labl":
                    labels[number] = _decoded(body[4:])
                elif name == b"ltxt" and len(body) >= 20:
                    lengths[number] = struct.unpack_from("<I", body, 4)[0]
    return [CuePoint(n, f, labels.get(n, ""), lengths.get(n, 0)) for n, f in frames.items()]


def _kept_labels(adtl: bytes) -> Iterator[bytes]:
    """What others say of their own cue points."""
    for name, body in _inside(adtl[4:]):
        if len(body) >= 4 and struct.unpack_from("<I", body)[0] < OURS:
            yield _chunk(name, body)


def _our_cues(carried: CarriedMap, rate: int) -> list[CuePoint]:
    first, last = carried.map.bar_range
    bars = range(first, last + 2)
    found = [
        (round(float(t) * rate), f"Bar {bar}", 0) for bar, t in zip(bars, carried.map.bar_seconds(bars), strict=True)
    ]
    found += [(round(s.start * rate), s.name, max(1, round((s.end - s.start) * rate))) for s in carried.sections]
    inside = sorted(c for c in found if 0 <= c[0] < _LARGE)
    return [CuePoint(OURS + k, frame, label, length) for k, (frame, label, length) in enumerate(inside)]


def _cue_chunk(cues: Sequence[CuePoint]) -> bytes:
    points = b"".join(struct.pack("<II4sIII", c.number, c.frame, b"data", 0, 0, c.frame) for c in cues)
    return _chunk(b"cue ", struct.pack("<I", len(cues)) + points)


def _labels(cues: Sequence[CuePoint]) -> bytes:
    out = b""
    for c in cues:
        if c.number < OURS:
            continue
        out += _chunk(b"labl", struct.pack("<I", c.number) + _encoded(c.label) + b"\0")
        if c.length:
            out += _chunk(b"ltxt", struct.pack("<II4sHHHH", c.number, c.length, b"rgn ", 0, 0, 0, 0))
    return out


def _bext(title: str) -> bytes:
    """A file that starts at time zero: TimeReference 0, version 2, loudness not measured (0x7FFF), no UMID."""
    text = title.encode("ascii", "replace")[:255]
    body = text.ljust(256, b"\0") + b"Diachron".ljust(32, b"\0") + bytes(32 + 10 + 8)
    body += struct.pack("<QH", 0, 2) + bytes(64) + struct.pack("<5h", *[0x7FFF] * 5)
    return body.ljust(_BEXT_SIZE, b"\0")


def time_reference(wave: Wave) -> int | None:
    """Samples since midnight at which the file starts, by its ``bext`` chunk."""
    for chunk in wave.chunks:
        if chunk.name == b"bext" and len(chunk.body) >= 346:
            return int(struct.unpack_from("<Q", chunk.body, 338)[0])
    return None


def _chunk(name: bytes, data: bytes) -> bytes:
    return name + struct.pack("<I", len(data)) + data + b"\0" * (len(data) % 2)


def _encoded(text: str) -> bytes:
    """Latin-1, as most readers take it (the standard names none); what that lacks as UTF-8."""
    try:
        return text.encode("latin-1")
    except UnicodeEncodeError:
        return text.encode("utf-8")


def _decoded(text: bytes) -> str:
    raw = text.split(b"\0")[0]
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw.decode("latin-1")
