"""A map as Vorbis comments, in FLAC and Ogg (Vorbis, Opus).

Published: "Ogg Vorbis I format specification: comment field and header specification" (Xiph.Org), RFC 9639 (FLAC,
2024), RFC 3533 (Ogg, 2003), RFC 7845 (Opus in Ogg, 2016). Fields written: ``DIACHRON_MAP`` (our text), ``BPM`` and
``TITLE`` where there is none, and sections as ``CHAPTER001`` and ``CHAPTER001NAME`` (common practice). Sound and all
other fields are copied as they are.
"""

from __future__ import annotations

import re
import struct
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import BinaryIO

from core.formats.carried import id3
from core.formats.carried.content import FIELD, FIRST_BEAT, CarriedMap, CarryError, to_text
from core.formats.clock import clock_time

_PIECE = 1 << 20
_COMMENTS = 4  # the type of their block in FLAC
_LARGEST_BLOCK = (1 << 24) - 1
_OURS = re.compile(rf"(?:{FIELD}|BPM|CHAPTER\d\d\d|CHAPTER\d\d\dNAME)$")
_MOST_CHAPTERS = 999


@dataclass(frozen=True)
class Comments:
    """``vendor``: who wrote the stream; ``fields``: as they lie in it, ``NAME=value``."""

    vendor: bytes = b"Diachron"
    fields: tuple[bytes, ...] = ()

    def text(self, name: str) -> str | None:
        for one in self.fields:
            key, _, value = one.partition(b"=")
            if key.upper() == name.encode():
                return value.decode("utf-8", "replace")
        return None


#: What becomes of a file's comments: their new block.
Change = Callable[[Comments], bytes]


def parse(data: bytes) -> Comments:
    """Raises ``struct.error`` where lengths do not fit."""
    (size,) = struct.unpack_from("<I", data)
    vendor = data[4 : 4 + size]
    at = 4 + size
    (count,) = struct.unpack_from("<I", data, at)
    at += 4
    out = []
    for _ in range(count):
        (size,) = struct.unpack_from("<I", data, at)
        out.append(data[at + 4 : at + 4 + size])
        at += 4 + size
        if at > len(data):
            raise struct.error("a comment ends beyond its block")
    return Comments(vendor, tuple(out))


def with_map(comments: Comments, carried: CarriedMap) -> bytes:
    """The comments with the map's fields in place of those of an earlier map."""
    kept = [f for f in comments.fields if not _OURS.match(f.partition(b"=")[0].decode("latin-1").upper())]
    if carried.title and comments.text("TITLE") is None:
        kept.append(b"TITLE=" + carried.title.encode())
    kept.append(f"BPM={carried.map.median_bpm:.2f}".encode())
    for k, section in enumerate(sorted(carried.sections, key=lambda s: s.start)[:_MOST_CHAPTERS], 1):
        kept.append(f"CHAPTER{k:03d}={clock_time(section.start)}".encode())
        kept.append(f"CHAPTER{k:03d}NAME={section.name}".encode())
    kept.append(f"{FIELD}={to_text(carried)}".encode())
    return _packed(comments.vendor, kept)


def with_tempo(comments: Comments, bpm: float, first_beat: float) -> bytes:
    """The comments with a tempo and the time of the first beat, and all else as it was."""
    new = (b"BPM", FIRST_BEAT.encode())
    kept = [f for f in comments.fields if f.partition(b"=")[0].upper() not in new]
    return _packed(comments.vendor, [*kept, f"BPM={bpm:.2f}".encode(), f"{FIRST_BEAT}={first_beat:.6f}".encode()])


def _packed(vendor: bytes, fields: list[bytes]) -> bytes:
    parts = [struct.pack("<I", len(vendor)), vendor, struct.pack("<I", len(fields))]
    for one in fields:
        parts += [struct.pack("<I", len(one)), one]
    return b"".join(parts)


def _rest(source: BinaryIO, target: BinaryIO) -> None:
    while piece := source.read(_PIECE):
        target.write(piece)


# ---- FLAC


def flac_comments(file: BinaryIO) -> Comments:
    """Raises :class:`CarryError`."""
    return next((parse(body) for kind, body in _flac_blocks(file) if kind == _COMMENTS), Comments())


def write_flac(source: BinaryIO, target: BinaryIO, change: Change) -> None:
    """Copy a file with its comments changed. Raises :class:`CarryError`."""
    blocks = list(_flac_blocks(source))
    comments = next((parse(body) for kind, body in blocks if kind == _COMMENTS), Comments())
    made = change(comments)
    if len(made) > _LARGEST_BLOCK:
        raise CarryError("The map is too large for the tags of a FLAC file.")
    padding = 1
    kept = [(kind, body) for kind, body in blocks if kind not in (_COMMENTS, padding)]
    kept.insert(1, (_COMMENTS, made))
    beginning = source.tell()
    source.seek(0)
    target.write(source.read(_flac_start(source)) + b"fLaC")
    source.seek(beginning)
    for k, (kind, body) in enumerate(kept):
        last = 0x80 if k == len(kept) - 1 else 0
        target.write(bytes([kind | last]) + len(body).to_bytes(3, "big") + body)
    _rest(source, target)


def _flac_start(file: BinaryIO) -> int:
    """Where FLAC begins: after an ID3 tag that some programs put in front. The file stays where it is."""
    place = file.tell()
    file.seek(0)
    head = file.read(10)
    file.seek(place)
    return id3.size_of(head) if head[:3] == b"ID3" else 0


def _flac_blocks(file: BinaryIO) -> Iterator[tuple[int, bytes]]:
    """Type and body of each block; the file is left where the sound begins."""
    file.seek(_flac_start(file))
    if file.read(4) != b"fLaC":
        raise CarryError("This is no FLAC file.")
    last = False
    while not last:
        header = file.read(4)
        size = int.from_bytes(header[1:], "big")
        body = file.read(size)
        if len(header) < 4 or len(body) < size:
            raise CarryError("This FLAC file ends before its sound begins.")
        last = bool(header[0] & 0x80)
        yield header[0] & 0x7F, body


# ---- Ogg


@dataclass
class _Page:
    """``flags``: 1 goes on with a packet, 2 first, 4 last; ``lacing``: sizes of its segments."""

    flags: int
    granule: bytes
    serial: bytes
    number: int
    lacing: bytes
    body: bytes

    def packed(self) -> bytes:
        head = b"OggS\0" + bytes([self.flags]) + self.granule + self.serial + struct.pack("<I", self.number)
        end = bytes([len(self.lacing)]) + self.lacing + self.body
        return head + struct.pack("<I", _checksum(head + bytes(4) + end)) + end


def ogg_comments(file: BinaryIO) -> Comments:
    """Raises :class:`CarryError`."""
    _, packets, kind = _ogg_headers(file)
    return parse(packets[1][len(kind) :])


def write_ogg(source: BinaryIO, target: BinaryIO, change: Change) -> None:
    """Copy a file with its comments changed: the pages of its headers are made anew, those after them counted on.
    Raises :class:`CarryError`."""
    pages, packets, kind = _ogg_headers(source)
    framing = b"\x01" if kind == b"\x03vorbis" else b""
    packets[1] = kind + change(parse(packets[1][len(kind) :])) + framing
    first = pages[0]
    target.write(first.packed())
    made = list(_paged(packets[1:], first.serial))
    target.writelines(page.packed() for page in made)
    moved = len(made) - (len(pages) - 1)
    while page := _read_page(source):
        if page.serial == first.serial:
            page.number += moved
        target.write(page.packed())


def _ogg_headers(file: BinaryIO) -> tuple[list[_Page], list[bytes], bytes]:
    """The header pages, their packets, and what the packet of comments begins with."""
    file.seek(0)
    pages: list[_Page] = []
    packets: list[bytes] = []
    packet, wanted, kind = b"", 1, b""
    while len(packets) < wanted:
        page = _read_page(file)
        if page is None or (pages and page.serial != pages[0].serial):
            raise CarryError("This Ogg file cannot carry a map; write it as WAV or FLAC instead.")
        pages.append(page)
        at = 0
        for size in page.lacing:
            packet += page.body[at : at + size]
            at += size
            if size < 255:
                packets.append(packet)
                packet = b""
        if packets and not kind:
            known = {b"\x01vorbis": (b"\x03vorbis", 3), b"OpusHead": (b"OpusTags", 2)}
            found = next((v for begins, v in known.items() if packets[0].startswith(begins)), None)
            if found is None:
                raise CarryError("This Ogg file is neither Vorbis nor Opus.")
            kind, wanted = found
    if len(packets) > wanted or packet or not packets[1].startswith(kind):
        raise CarryError("The headers of this Ogg file do not fit together.")
    return pages, packets, kind


def _paged(packets: list[bytes], serial: bytes) -> Iterator[_Page]:
    """Header packets in pages of their own; a page on which no packet ends has no position (-1)."""
    body = b"".join(packets)
    lacing = b"".join(bytes([255] * (len(p) // 255) + [len(p) % 255]) for p in packets)
    at, number, goes_on = 0, 1, False
    for k in range(0, len(lacing), 255):
        own = lacing[k : k + 255]
        size = sum(own)
        granule = bytes(8) if min(own) < 255 else b"\xff" * 8
        yield _Page(1 if goes_on else 0, granule, serial, number, own, body[at : at + size])
        at, number, goes_on = at + size, number + 1, own[-1] == 255


def _read_page(file: BinaryIO) -> _Page | None:
    head = file.read(27)
    if not head:
        return None
    if len(head) < 27 or head[:4] != b"OggS":
        raise CarryError("The pages of this Ogg file do not fit together.")
    lacing = file.read(head[26])
    body = file.read(sum(lacing))
    if len(body) < sum(lacing):
        raise CarryError("This Ogg file ends in the middle of a page.")
    return _Page(head[5], head[6:14], head[14:18], struct.unpack("<I", head[18:22])[0], lacing, body)


#: Each byte with its bits in the other order.
_TURNED = bytes(int(f"{b:08b}"[::-1], 2) for b in range(256))


def _checksum(page: bytes) -> int:
    """RFC 3533's CRC-32 (polynomial 04c11db7, from 0, bits as they come), by the usual one of turned bits."""
    found = zlib.crc32(page.translate(_TURNED), 0xFFFFFFFF) ^ 0xFFFFFFFF
    return int(f"{found:032b}"[::-1], 2)
