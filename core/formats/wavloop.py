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

from core.audio.chunks import cue_points, decoded, inside, is_wave, label, packed, read_cue_points, walk


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
    info = packed(b"ICMT", _text(facts.words)) + (packed(b"INAM", _text(title)) if title else b"")
    info += packed(b"ISFT", _text("Diachron"))
    labels = b"".join(label(i + 1, name) for i, (_, name) in enumerate(facts.lines))
    # one loop over all frames, round and round (play count 0); 60 is middle C, the pitch at which it was recorded
    loop = struct.pack("<9I", 0, 0, round(1e9 / rate), 60, 0, 0, 0, 1, 0)
    loop += struct.pack("<6I", 0, 0, 0, len(samples) - 1, 0, 0)
    for chunk in (
        packed(b"smpl", loop),
        cue_points([(i + 1, frame) for i, (frame, _) in enumerate(facts.lines)]),
        packed(b"LIST", b"adtl" + labels),
        packed(b"LIST", b"INFO" + info),
    ):
        riff += chunk
    riff[4:8] = struct.pack("<I", len(riff) - 8)
    return bytes(riff)


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
    if not is_wave(data[:12]):
        raise ValueError("This is no WAV file.")
    loop, cues, names, words = None, {}, {}, ""
    file = io.BytesIO(data)
    for chunk in walk(file):
        name, body = chunk.name, chunk.body(file)
        if name == b"smpl" and len(body) >= 60:
            start, end = struct.unpack_from("<II", body, 44)
            loop = (start, end)
        elif name == b"cue ":
            cues = dict(read_cue_points(body))
        elif name == b"LIST":
            for sub, text in inside(body):
                if sub == b"labl":
                    names[struct.unpack_from("<I", text)[0]] = decoded(text[4:])
                elif sub == b"ICMT":
                    words = decoded(text)
    return LoopRead(loop, [(frame, names.get(n, "")) for n, frame in sorted(cues.items())], words)
