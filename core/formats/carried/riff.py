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

from core.audio.chunks import (
    TOO_LARGE,
    Chunk,
    cue_points,
    decoded,
    inside,
    is_wave,
    label,
    packed,
    read_cue_points,
    walk,
)
from core.formats.carried import id3
from core.formats.carried.content import CarriedMap, CarryError

#: Our cue points have numbers from here on; those of others stay.
OURS = 1_000_000
#: Larger files are written as RF64.
_LARGEST_RIFF = 0xFFFFFFFF
#: Bytes that are copied at a time, and of a chunk that is read as a whole, at most.
_PIECE, _LARGEST_READ = 1 << 20, 64 << 20
_READ_WHOLE = (b"fmt ", b"cue ", b"LIST", b"id3 ", b"ID3 ", b"bext")
#: What is written anew, or only kept room.
_MADE_ANEW = (b"id3 ", b"ID3 ", b"ds64", b"JUNK")
_BEXT_SIZE = 602


@dataclass(frozen=True)
class CuePoint:
    """``frame`` in the file; ``length`` in frames, 0 for a mere point."""

    number: int
    frame: int
    label: str = ""
    length: int = 0


@dataclass
class Wave:
    """A file's chunks and what they say. ``kind``: RIFF, RF64 or BW64; ``bodies``: of the chunks that were read."""

    kind: bytes
    chunks: list[Chunk]
    bodies: dict[Chunk, bytes] = field(default_factory=dict)
    rate: int = 0
    cues: list[CuePoint] = field(default_factory=list)
    tag: id3.Tag = field(default_factory=id3.Tag)


def opened(file: BinaryIO) -> Wave:
    """The chunks of a file. Raises :class:`CarryError` on what is no WAV file."""
    file.seek(0)
    head = file.read(12)
    if not is_wave(head):
        raise CarryError("This is no WAV file.")
    try:
        wave = Wave(head[:4], list(walk(file)))
        for chunk in wave.chunks:
            if chunk.name in _READ_WHOLE and chunk.size <= _LARGEST_READ:
                wave.bodies[chunk] = chunk.body(file)
        by_name = {c.name: body for c, body in wave.bodies.items()}
        wave.rate = struct.unpack_from("<I", by_name[b"fmt "], 4)[0]
        wave.cues = _cues(wave)
        wave.tag = id3.parse(by_name.get(b"id3 ", by_name.get(b"ID3 ", b"")))
    except (struct.error, KeyError):
        raise CarryError("The parts of this WAV file do not fit together.") from None
    return wave


def write(source: BinaryIO, target: BinaryIO, carried: CarriedMap) -> None:
    """Copy a file with the map in it. Raises :class:`CarryError`."""
    wave = opened(source)
    labels = [body for body in wave.bodies.values() if body[:4] == b"adtl"]
    kept = [c for c in wave.chunks if c.name not in (*_MADE_ANEW, b"cue ") and wave.bodies.get(c) not in labels]
    added = [] if any(c.name == b"bext" for c in kept) else [packed(b"bext", _bext(carried.title))]
    cues = [c for c in wave.cues if c.number < OURS] + _our_cues(carried, wave.rate)
    others = [label for body in labels for label in _kept_labels(body)]
    added.append(cue_points([(c.number, c.frame) for c in cues]))
    added.append(packed(b"LIST", b"adtl" + b"".join(others) + _labels(cues)))
    added.append(packed(b"id3 ", id3.with_map(wave.tag, carried)))
    _write(source, target, wave, kept, added)


def _write(source: BinaryIO, target: BinaryIO, wave: Wave, kept: Sequence[Chunk], added: Sequence[bytes]) -> None:
    """A file of chunks that are copied and chunks that are new."""
    size = 4 + sum(8 + c.size + c.size % 2 for c in kept) + sum(map(len, added))
    data = next((c for c in kept if c.name == b"data"), None)
    if data is None:
        raise CarryError("This WAV file holds no sound.")
    large = size + 36 > _LARGEST_RIFF
    target.write((b"RF64" if large else b"RIFF") + struct.pack("<I", TOO_LARGE if large else size) + b"WAVE")
    if large:
        format_ = next(body for c, body in wave.bodies.items() if c.name == b"fmt ")
        frame_bytes = max(1, struct.unpack_from("<H", format_, 12)[0])
        target.write(packed(b"ds64", struct.pack("<QQQI", size + 36, data.size, data.size // frame_bytes, 0)))
    for chunk in kept:
        big = chunk.size >= TOO_LARGE or (large and chunk is data)
        target.write(chunk.name + struct.pack("<I", TOO_LARGE if big else chunk.size))
        _copy(source, target, chunk)
    for made in added:
        target.write(made)


def write_tag(source: BinaryIO, target: BinaryIO, change: Callable[[id3.Tag], bytes]) -> None:
    """Copy a file with its ``id3 `` chunk changed. Raises :class:`CarryError`."""
    wave = opened(source)
    kept = [c for c in wave.chunks if c.name not in _MADE_ANEW]
    _write(source, target, wave, kept, [packed(b"id3 ", change(wave.tag))])


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


def _cues(wave: Wave) -> list[CuePoint]:
    frames: dict[int, int] = {}
    labels: dict[int, str] = {}
    lengths: dict[int, int] = {}
    for chunk, whole in wave.bodies.items():
        if chunk.name == b"cue ":
            frames |= dict(read_cue_points(whole))
        elif whole[:4] == b"adtl":
            for name, body in inside(whole):
                if len(body) < 4:
                    continue
                number = struct.unpack_from("<I", body)[0]
                if name == b"labl":
                    labels[number] = decoded(body[4:])
                elif name == b"ltxt" and len(body) >= 20:
                    lengths[number] = struct.unpack_from("<I", body, 4)[0]
    return [CuePoint(n, f, labels.get(n, ""), lengths.get(n, 0)) for n, f in frames.items()]


def _kept_labels(adtl: bytes) -> Iterator[bytes]:
    """What others say of their own cue points."""
    for name, body in inside(adtl):
        if len(body) >= 4 and struct.unpack_from("<I", body)[0] < OURS:
            yield packed(name, body)


def _our_cues(carried: CarriedMap, rate: int) -> list[CuePoint]:
    first, last = carried.map.bar_range
    bars = range(first, last + 2)
    found = [
        (round(float(t) * rate), f"Bar {bar}", 0) for bar, t in zip(bars, carried.map.bar_seconds(bars), strict=True)
    ]
    found += [(round(s.start * rate), s.name, max(1, round((s.end - s.start) * rate))) for s in carried.sections]
    inside = sorted(c for c in found if 0 <= c[0] < TOO_LARGE)
    return [CuePoint(OURS + k, frame, label, length) for k, (frame, label, length) in enumerate(inside)]


def _labels(cues: Sequence[CuePoint]) -> bytes:
    out = b""
    for c in cues:
        if c.number < OURS:
            continue
        out += label(c.number, c.label)
        if c.length:
            out += packed(b"ltxt", struct.pack("<II4sHHHH", c.number, c.length, b"rgn ", 0, 0, 0, 0))
    return out


def _bext(title: str) -> bytes:
    """A file that starts at time zero: TimeReference 0, version 2, loudness not measured (0x7FFF), no UMID."""
    text = title.encode("ascii", "replace")[:255]
    body = text.ljust(256, b"\0") + b"Diachron".ljust(32, b"\0") + bytes(32 + 10 + 8)
    body += struct.pack("<QH", 0, 2) + bytes(64) + struct.pack("<5h", *[0x7FFF] * 5)
    return body.ljust(_BEXT_SIZE, b"\0")


def time_reference(wave: Wave) -> int | None:
    """Samples since midnight at which the file starts, by its ``bext`` chunk."""
    for chunk, body in wave.bodies.items():
        if chunk.name == b"bext" and len(body) >= 346:
            return int(struct.unpack_from("<Q", body, 338)[0])
    return None
