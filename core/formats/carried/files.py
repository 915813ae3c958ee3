"""Writing a map into a copy of an audio file, and reading it back, whatever the file is."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import BinaryIO

from core.formats.carried import id3, riff, vorbis_comment
from core.formats.carried.content import FIELD, LARGEST, CarriedMap, CarryError, from_text

_HEAD = 12
#: Files that can carry a map, in words.
KINDS = "WAV, FLAC, Ogg and MP3"


def carry(source: Path, target: Path, carried: CarriedMap) -> None:
    """Copy ``source`` to ``target`` with the map in it; the sound stays as it is, byte for byte.

    Raises :class:`CarryError` and ``OSError``; ``target`` is there as a whole or not at all.
    """
    if source.resolve() == target.resolve():
        raise CarryError("A recording is never changed: the copy needs another name or folder.")
    partial = target.with_name(target.name + ".partial")
    try:
        with source.open("rb") as read, partial.open("wb") as written:
            _write(read, written, carried)
        partial.replace(target)
    except struct.error:
        raise CarryError(f"“{source.name}” is damaged; it cannot carry a map.") from None
    finally:
        partial.unlink(missing_ok=True)


def _write(source: BinaryIO, target: BinaryIO, carried: CarriedMap) -> None:
    head = source.read(_HEAD)
    if riff.is_wave(head):
        return riff.write(source, target, carried)
    if _is_flac(source, head):
        return vorbis_comment.write_flac(source, target, carried)
    if head[:4] == b"OggS":
        return vorbis_comment.write_ogg(source, target, carried)
    if _is_mp3(source, head):
        tag = _mp3_tag(source)
        target.write(id3.with_map(tag, carried))
        source.seek(tag.size)
        while piece := source.read(1 << 20):
            target.write(piece)
        return None
    raise CarryError(f"A map can be written into {KINDS} files, not into this one.")


def read_carried(path: Path) -> CarriedMap | None:
    """The map that a file carries as our own text, exact to the bit; none where it carries none.

    Raises :class:`CarryError` where the map is damaged or newer than this program, and ``OSError``.
    """
    with path.open("rb") as file:
        try:
            text = _text(file)
        except struct.error:
            return None
        except CarryError:  # of a kind, or so damaged, that it carries nothing; who opens it as sound is told
            return None
    if text is None:
        return None
    if len(text) > LARGEST:
        raise CarryError("The map in this file is too large.")
    return from_text(text)


def _text(file: BinaryIO) -> str | None:
    head = file.read(_HEAD)
    if riff.is_wave(head):
        return riff.opened(file).tag.text(FIELD)
    if _is_flac(file, head):
        return vorbis_comment.flac_comments(file).text(FIELD)
    if head[:4] == b"OggS":
        return vorbis_comment.ogg_comments(file).text(FIELD)
    if head[:3] == b"ID3":
        return _mp3_tag(file).text(FIELD)
    return None


def _is_flac(file: BinaryIO, head: bytes) -> bool:
    if head[:4] == b"fLaC":
        return True
    if head[:3] != b"ID3":
        return False
    file.seek(_tag_size(head))
    return file.read(4) == b"fLaC"


def _is_mp3(file: BinaryIO, head: bytes) -> bool:
    """An ID3 tag, or the eleven bits with which a frame of MPEG audio begins (ISO 11172-3)."""
    return head[:3] == b"ID3" or (len(head) > 1 and head[0] == 0xFF and head[1] & 0xE0 == 0xE0)


def _tag_size(head: bytes) -> int:
    return 10 + sum((b & 0x7F) << shift for b, shift in zip(head[6:10], (21, 14, 7, 0), strict=True))


def _mp3_tag(file: BinaryIO) -> id3.Tag:
    file.seek(0)
    head = file.read(10)
    if head[:3] != b"ID3":
        return id3.Tag()
    return id3.parse(head + file.read(_tag_size(head)))
