"""A map as ID3v2 frames: tempo, every beat, sections as chapters, and our own text.

Published: "ID3 tag version 2.4.0 - Main structure" and "- Native frames" (M. Nilsson, 2000), "ID3v2 Chapter Frame
Addendum" (C. Newell, 2005). Frames written: ``TBPM`` (a whole number, as the standard has it), ``SYTC`` (each beat's
tempo and millisecond), ``ETCO`` (kinds of sections, changes of meter), ``CTOC`` and ``CHAP`` (sections), and ``TXXX``
(our text). All other frames of a file stay as they are.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from core.formats.carried.content import FIELD, FIRST_BEAT, CarriedMap, CarryError, to_text

#: Event codes by what a section's name begins with (native frames, 4.5); others are main parts.
_EVENTS = {"intro": 0x02, "outro": 0x04, "ending": 0x04, "verse": 0x06, "refrain": 0x07, "chorus": 0x07,
           "interlude": 0x08, "theme": 0x09, "variation": 0x0A}  # fmt: skip
_MAIN_PART, _METER_CHANGE = 0x03, 0x0C
_MILLISECONDS = 2
_LATIN, _UTF16 = 0, 1
#: What begins the identifiers of our chapters.
_CHAPTER, _CONTENTS = "diachron-section-", "diachron-sections"
#: Chapters that a table of contents takes, at most.
_MOST_CHAPTERS = 255
_HEADER = 10


@dataclass(frozen=True)
class Frame:
    """A frame as it lies in a tag: its name, two bytes of flags, and its body."""

    name: str
    flags: bytes
    body: bytes


@dataclass(frozen=True)
class Tag:
    """``version``: 3 or 4; ``size``: bytes that the tag takes in its file; ``frames``: in their order."""

    version: int = 4
    size: int = 0
    frames: tuple[Frame, ...] = ()

    @property
    def tempo(self) -> str | None:
        """What the frame of the tempo says."""
        for frame in self.frames:
            if frame.name == "TBPM" and len(frame.body) > 1:
                coding = {1: "utf-16", 2: "utf-16-be", 3: "utf-8"}.get(frame.body[0], "latin-1")
                return frame.body[1:].decode(coding, "replace").strip("\0\ufeff ") or None
        return None

    def text(self, field: str) -> str | None:
        """What a ``TXXX`` frame of this description says."""
        for frame in self.frames:
            if _is_field(frame, field) and (found := _described(frame)):
                return found[1]
        return None


def size_of(head: bytes) -> int:
    """Bytes of the tag that begins so (ten bytes of it)."""
    return _HEADER + _from_synchsafe(head[6:10]) + (_HEADER if head[5] & 0x10 else 0)


def parse(data: bytes) -> Tag:
    """The tag at the start of ``data``; an empty one where there is none. Raises :class:`CarryError` on a tag that
    cannot be kept as it is."""
    if data[:3] != b"ID3" or len(data) < _HEADER:
        return Tag()
    version, flags = data[3], data[5]
    size = _from_synchsafe(data[6:10])
    if version not in (3, 4):
        raise CarryError("Its tags are of an old kind (ID3v2.2); they would be lost. Write it as WAV or FLAC instead.")
    body = data[_HEADER : _HEADER + size]
    if version == 3 and flags & 0x80:
        body = body.replace(b"\xff\x00", b"\xff")
    if flags & 0x40:  # an extended header, which says nothing of the frames
        extended = _from_synchsafe(body[:4]) if version == 4 else 4 + struct.unpack(">I", body[:4])[0]
        body = body[extended:]
    return Tag(version, size_of(data), tuple(_frames(body, version)))


def _frames(body: bytes, version: int) -> Iterator[Frame]:
    at = 0
    while at + _HEADER <= len(body) and body[at]:
        name = body[at : at + 4].decode("latin-1")
        sized = body[at + 4 : at + 8]
        size = _from_synchsafe(sized) if version == 4 else struct.unpack(">I", sized)[0]
        if at + _HEADER + size > len(body):
            return
        yield Frame(name, body[at + 8 : at + 10], body[at + _HEADER : at + _HEADER + size])
        at += _HEADER + size


def with_map(tag: Tag, carried: CarriedMap) -> bytes:
    """The tag with the map's frames in place of those of an earlier map."""
    kept = [f for f in tag.frames if not _is_ours(f)]
    has_title = any(f.name == "TIT2" for f in kept)
    frames = kept + ([] if has_title or not carried.title else [_text_frame("TIT2", carried.title)])
    frames += [
        _tempo_frame(carried.map.median_bpm),
        Frame("SYTC", b"\0\0", bytes([_MILLISECONDS]) + _tempo_codes(carried)),
        Frame("ETCO", b"\0\0", bytes([_MILLISECONDS]) + _event_codes(carried)),
        *_chapters(carried, tag.version),
        _field_frame(FIELD, to_text(carried)),
    ]
    return _tag_of(frames, tag.version)


def _tag_of(frames: Sequence[Frame], version: int) -> bytes:
    body = b"".join(_packed(f, version) for f in frames)
    return b"ID3" + bytes([version, 0, 0]) + _synchsafe(len(body)) + body


def with_tempo(tag: Tag, bpm: float, first_beat: float) -> bytes:
    """The tag with a tempo and the time of the first beat, and all else as it was."""
    kept = [f for f in tag.frames if f.name != "TBPM" and not _is_field(f, FIRST_BEAT)]
    return _tag_of([*kept, _tempo_frame(bpm), _field_frame(FIRST_BEAT, f"{first_beat:.6f}")], tag.version)


def _tempo_frame(bpm: float) -> Frame:
    return Frame("TBPM", b"\0\0", bytes([_LATIN]) + str(round(bpm)).encode())


def _field_frame(field: str, text: str) -> Frame:
    return Frame("TXXX", b"\0\0", bytes([_LATIN]) + field.encode() + b"\0" + text.encode("ascii"))


def _is_field(frame: Frame, field: str) -> bool:
    return frame.name == "TXXX" and (_described(frame) or ("",))[0] == field


def beats_of(frame: bytes) -> list[tuple[float, int]]:
    """Seconds and tempo (beats a minute) of each code in the body of a ``SYTC`` frame; tempo 0 where no beat is."""
    if not frame or frame[0] != _MILLISECONDS:
        return []
    out, at = [], 1
    while at < len(frame):
        tempo = frame[at]
        at += 1
        if tempo == 0xFF and at < len(frame):
            tempo += frame[at]
            at += 1
        if at + 4 > len(frame):
            break
        out.append((struct.unpack_from(">I", frame, at)[0] / 1000, tempo))
        at += 4
    return out


def _is_ours(frame: Frame) -> bool:
    if frame.name in ("TBPM", "SYTC", "ETCO"):
        return True
    if frame.name in ("CHAP", "CTOC"):
        return frame.body.startswith((_CHAPTER.encode(), _CONTENTS.encode()))
    return _is_field(frame, FIELD)


def _described(frame: Frame) -> tuple[str, str] | None:
    """Description and value of a ``TXXX`` frame; none where it is compressed or encrypted."""
    body = frame.body
    if frame.flags[1] & 0x0C or not body:
        return None
    if frame.flags[1] & 0x01:  # a data length stands in front
        body = body[4:]
    if frame.flags[1] & 0x02:
        body = body.replace(b"\xff\x00", b"\xff")
    coding = {0: "latin-1", 1: "utf-16", 2: "utf-16-be", 3: "utf-8"}.get(body[0] if body else 9)
    if coding is None:
        return None
    gap = b"\0\0" if coding.startswith("utf-16") else b"\0"
    end = 1
    while end < len(body) and body[end : end + len(gap)] != gap:
        end += len(gap)
    try:
        description, value = body[1:end].decode(coding), body[end + len(gap) :].decode(coding)
    except UnicodeDecodeError:
        return None
    return description.lstrip("\ufeff"), value.lstrip("\ufeff").rstrip("\0")


def _text_frame(name: str, text: str) -> Frame:
    return Frame(name, b"\0\0", bytes([_UTF16]) + text.encode("utf-16"))


def _milliseconds(seconds: float) -> bytes:
    return struct.pack(">I", int(np.clip(round(1000 * seconds), 0, 0xFFFFFFFF)))


def _tempo_codes(carried: CarriedMap) -> bytes:
    """Every beat at or after zero with the tempo to the next one; then a stretch without beats."""
    beats = carried.map.beats()
    ends = np.append(beats.seconds[1:], carried.map.seconds_of_beat(beats.index[-1] + 1))
    out = []
    for t, end in zip(beats.seconds, ends, strict=True):
        if t >= 0:
            tempo = int(np.clip(round(60 / (end - t)), 2, 510))
            code = bytes([tempo]) if tempo < 0xFF else bytes([0xFF, tempo - 0xFF])
            out.append(code + _milliseconds(float(t)))
    return b"".join(out) + b"\0" + _milliseconds(float(ends[-1]))


def _event_codes(carried: CarriedMap) -> bytes:
    events = []
    for section in carried.sections:
        words = section.name.lower()
        code = next((c for begins, c in _EVENTS.items() if words.startswith(begins)), _MAIN_PART)
        events.append((section.start, code))
    for change in carried.map.meters.changes[1:]:
        events.append((float(carried.map.bar_seconds(change.bar)), _METER_CHANGE))
    return b"".join(bytes([code]) + _milliseconds(t) for t, code in sorted(events) if t >= 0)


def _chapters(carried: CarriedMap, version: int) -> list[Frame]:
    sections = sorted(carried.sections, key=lambda s: s.start)[:_MOST_CHAPTERS]
    if not sections:
        return []
    names = [f"{_CHAPTER}{k + 1}".encode() + b"\0" for k in range(len(sections))]
    ordered_top_level = 0x03
    contents = _CONTENTS.encode() + b"\0" + bytes([ordered_top_level, len(sections)]) + b"".join(names)
    out = [Frame("CTOC", b"\0\0", contents)]
    for name, section in zip(names, sections, strict=True):
        times = _milliseconds(section.start) + _milliseconds(section.end) + b"\xff" * 8
        out.append(Frame("CHAP", b"\0\0", name + times + _packed(_text_frame("TIT2", section.name), version)))
    return out


def _packed(frame: Frame, version: int) -> bytes:
    size = _synchsafe(len(frame.body)) if version == 4 else struct.pack(">I", len(frame.body))
    return frame.name.encode("latin-1") + size + frame.flags + frame.body


def _synchsafe(n: int) -> bytes:
    if n >> 28:
        raise CarryError("The map is too large for the tags of a file.")
    return bytes((n >> shift) & 0x7F for shift in (21, 14, 7, 0))


def _from_synchsafe(data: bytes) -> int:
    if len(data) != 4:
        raise CarryError("It is damaged: a tag is cut off.")
    return sum((b & 0x7F) << shift for b, shift in zip(data, (21, 14, 7, 0), strict=True))
