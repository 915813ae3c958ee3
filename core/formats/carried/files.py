"""Writing a map into a copy of an audio file, and reading it back, whatever the file is."""

from __future__ import annotations

import shutil
import struct
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

from core.audio.chunks import is_wave
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


def tag_tempo(path: Path, bpm: float, first_beat: float) -> None:
    """Write tempo (felt beats a minute) and the first beat (seconds) into a file's own tags, in place; its sound and
    all other tags stay. Raises :class:`CarryError` and ``OSError``; then the file is as it was."""
    partial = path.with_name(path.name + ".partial")
    try:
        with path.open("rb") as read, partial.open("wb") as written:
            head = read.read(_HEAD)
            if is_wave(head):
                riff.write_tag(read, written, lambda tag: id3.with_tempo(tag, bpm, first_beat))
            else:
                _write_tags(
                    read,
                    written,
                    lambda tag: id3.with_tempo(tag, bpm, first_beat),
                    lambda comments: vorbis_comment.with_tempo(comments, bpm, first_beat),
                )
        shutil.copystat(path, partial)
        partial.replace(path)
    except struct.error:
        raise CarryError("It is damaged; its tags cannot be written.") from None
    finally:
        partial.unlink(missing_ok=True)


def read_tempo(path: Path) -> str | None:
    """The tempo that a file's tags say, as written there. Raises :class:`CarryError` on a file without tags that are
    known, and ``OSError``."""
    with path.open("rb") as file:
        try:
            found = _tags(file)
        except struct.error:
            raise CarryError("It is damaged; its tags cannot be read.") from None
    if found is None:
        raise CarryError(f"Tags can be written into {KINDS} files, not into this one.")
    return found.tempo if isinstance(found, id3.Tag) else found.text("BPM")


def _write(source: BinaryIO, target: BinaryIO, carried: CarriedMap) -> None:
    if is_wave(source.read(_HEAD)):
        return riff.write(source, target, carried)
    return _write_tags(
        source,
        target,
        lambda tag: id3.with_map(tag, carried),
        lambda comments: vorbis_comment.with_map(comments, carried),
    )


def _write_tags(
    source: BinaryIO,
    target: BinaryIO,
    change_id3: Callable[[id3.Tag], bytes],
    change_comments: vorbis_comment.Change,
) -> None:
    """Copy a FLAC, Ogg or MP3 file with its tags changed."""
    source.seek(0)
    head = source.read(_HEAD)
    if _is_flac(source, head):
        return vorbis_comment.write_flac(source, target, change_comments)
    if head[:4] == b"OggS":
        return vorbis_comment.write_ogg(source, target, change_comments)
    if _is_mp3(source, head):
        tag = _mp3_tag(source)
        target.write(change_id3(tag))
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
            found = _tags(file)
        except struct.error:
            return None
        except CarryError:  # of a kind, or so damaged, that it carries nothing; who opens it as sound is told
            return None
    text = found.text(FIELD) if found else None
    if text is None:
        return None
    if len(text) > LARGEST:
        raise CarryError("The map in this file is too large.")
    return from_text(text)


def _tags(file: BinaryIO) -> id3.Tag | vorbis_comment.Comments | None:
    """A file's tags; None where it can have none."""
    head = file.read(_HEAD)
    if is_wave(head):
        return riff.opened(file).tag
    if _is_flac(file, head):
        return vorbis_comment.flac_comments(file)
    if head[:4] == b"OggS":
        return vorbis_comment.ogg_comments(file)
    return _mp3_tag(file) if _is_mp3(file, head) else None


def _is_flac(file: BinaryIO, head: bytes) -> bool:
    if head[:4] == b"fLaC":
        return True
    if head[:3] != b"ID3":
        return False
    file.seek(id3.size_of(head))
    return file.read(4) == b"fLaC"


def _is_mp3(file: BinaryIO, head: bytes) -> bool:
    """An ID3 tag, or the eleven bits with which a frame of MPEG audio begins (ISO 11172-3)."""
    return head[:3] == b"ID3" or (len(head) > 1 and head[0] == 0xFF and head[1] & 0xE0 == 0xE0)


def _mp3_tag(file: BinaryIO) -> id3.Tag:
    file.seek(0)
    head = file.read(10)
    if head[:3] != b"ID3":
        return id3.Tag()
    return id3.parse(head + file.read(id3.size_of(head)))
