"""A cut loop as a WAV file that says what it is: loop points, bar lines and words in the format's own chunks.

RIFF chunks as published by IBM and Microsoft: ``cue``, ``LIST adtl`` and ``LIST INFO`` in "Multimedia Programming
Interface and Data Specifications 1.0" (1991), ``smpl`` in "New Multimedia Data Types and Data Techniques" (1994).
"""

from __future__ import annotations

import io
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import soundfile as sf
from numpy.typing import NDArray


@dataclass(frozen=True)
class LoopFacts:
    """``lines``: frame of each bar line in the loop with its name; ``bpm``: felt beats a minute over the loop."""

    bars: int
    beats: int
    meter: str
    bpm: float
    lines: Sequence[tuple[int, str]]

    @property
    def words(self) -> str:
        return f"{self.bars} bar{'s' * (self.bars != 1)}, {self.beats} beats in {self.meter}, {self.bpm:.3f} bpm"


#: Samples at a loop's end that blend into what leads up to its start.
BLEND = 480


def seamless(samples: NDArray[Any], pre: int) -> NDArray[Any]:
    """A loop that comes round without a click: its end blends into the ``pre`` samples before its start.

    ``samples``: ``(pre + frames, channels)``, the loop with what leads up to it. Its start is left untouched, so that
    its first attack is whole; returns ``(frames, channels)``.
    """
    lead, loop = samples[:pre], samples[pre:].copy()
    if not 0 < pre < len(loop):
        return loop
    rise = np.sin(0.5 * np.pi * (np.arange(pre) + 0.5) / pre)[:, None].astype(np.float32)
    loop[-pre:] = loop[-pre:] * np.sqrt(1 - rise**2) + lead * rise
    return loop


def write(samples: NDArray[np.float32], rate: int, facts: LoopFacts, title: str = "") -> bytes:
    """A 24-bit file of ``samples`` ``(frames, channels)`` that loops as a whole."""
    out = io.BytesIO()
    sf.write(out, samples, rate, "PCM_24", format="WAV")
    riff = bytearray(out.getvalue())
    info = _chunk(b"ICMT", _text(facts.words)) + (_chunk(b"INAM", _text(title)) if title else b"")
    info += _chunk(b"ISFT", _text("Diachron"))
    labels = b"".join(_chunk(b"labl", struct.pack("<I", i + 1) + _text(n)) for i, (_, n) in enumerate(facts.lines))
    cues = b"".join(
        struct.pack("<II4sIII", i + 1, frame, b"data", 0, 0, frame) for i, (frame, _) in enumerate(facts.lines)
    )
    # one loop over all frames, round and round (play count 0); 60 is middle C, the pitch at which it was recorded
    loop = struct.pack("<9I", 0, 0, round(1e9 / rate), 60, 0, 0, 0, 1, 0)
    loop += struct.pack("<6I", 0, 0, 0, len(samples) - 1, 0, 0)
    for chunk in (
        _chunk(b"smpl", loop),
        _chunk(b"cue ", struct.pack("<I", len(facts.lines)) + cues),
        _chunk(b"LIST", b"adtl" + labels),
        _chunk(b"LIST", b"INFO" + info),
    ):
        riff += chunk
    riff[4:8] = struct.pack("<I", len(riff) - 8)
    return bytes(riff)


def _chunk(name: bytes, data: bytes) -> bytes:
    return name + struct.pack("<I", len(data)) + data + b"\0" * (len(data) % 2)


def _text(text: str) -> bytes:
    return text.encode("latin-1", "replace") + b"\0"


@dataclass(frozen=True)
class LoopRead:
    """``loop``: first and last frame; ``lines`` as written; ``words``: the comment."""

    loop: tuple[int, int] | None
    lines: list[tuple[int, str]]
    words: str


def read(data: bytes) -> LoopRead:
    """What a WAV file's chunks say of its loop. Raises ``ValueError`` on what is no WAV file."""
    if data[:4] != b"RIFF" or data[8:12] != b"WAVE":
        raise ValueError("This is no WAV file.")
    loop, cues, names, words = None, {}, {}, ""
    for name, body in _chunks(data[12:]):
        if name == b"smpl" and len(body) >= 60:
            start, end = struct.unpack_from("<II", body, 44)
            loop = (start, end)
        elif name == b"cue ":
            for i in range(struct.unpack_from("<I", body)[0]):
                number, frame = struct.unpack_from("<II", body, 4 + 24 * i)
                cues[number] = frame
        elif name == b"LIST":
            for sub, text in _chunks(body[4:]):
                if sub == b"labl":
                    names[struct.unpack_from("<I", text)[0]] = _read(text[4:])
                elif sub == b"ICMT":
                    words = _read(text)
    return LoopRead(loop, [(frame, names.get(n, "")) for n, frame in sorted(cues.items())], words)


def _chunks(data: bytes) -> list[tuple[bytes, bytes]]:
    out, at = [], 0
    while at + 8 <= len(data):
        name, size = struct.unpack_from("<4sI", data, at)
        out.append((name, data[at + 8 : at + 8 + size]))
        at += 8 + size + size % 2
    return out


def _read(text: bytes) -> str:
    return text.split(b"\0")[0].decode("latin-1")
