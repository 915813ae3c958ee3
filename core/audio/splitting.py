"""A file of many channels, as recorders write them, as one file a channel.

Names of channels come from the file's ``iXML`` chunk (iXML specification 3.01: ``TRACK_LIST`` with ``CHANNEL_INDEX``
and ``NAME``), as far as it has one. Large files are RF64 (EBU Tech 3306), or BW64 (ITU-R BS.2088), which has the same
layout under another name.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from xml.etree import ElementTree as ET

import soundfile as sf

from core.audio.chunks import walk
from core.audio.files import AudioError

#: A file of more channels than this is split: two are a stereo track.
MOST_TOGETHER = 2
#: Channels of a file, at most; and bytes of what it says of them.
MOST_CHANNELS, _LARGEST_TEXT = 256, 8 << 20
_BLOCK = 1 << 16


def channel_names(path: Path, channels: int) -> list[str]:
    """A name for each channel; its number where the file has none."""
    names = [str(k + 1) for k in range(channels)]
    root = _ixml(path)
    for track in root.iter("TRACK") if root is not None else ():
        index, name = track.findtext("CHANNEL_INDEX") or "", (track.findtext("NAME") or "").strip()
        if name and index.strip().isdecimal() and 1 <= int(index) <= channels:
            names[int(index) - 1] = name[:100]
    return names


def _ixml(path: Path) -> ET.Element | None:
    with path.open("rb") as file:
        found = next((c.body(file, _LARGEST_TEXT) for c in walk(file) if c.name == b"iXML"), b"")
    try:
        return ET.fromstring(found.rstrip(b"\0"))
    except (ET.ParseError, ValueError):
        return None


def samples_since_midnight(path: Path) -> int | None:
    """When a recording starts, by its ``iXML`` chunk."""
    root = _ixml(path)
    if root is None:
        return None
    words = [next((e.text or "" for e in root.iter(f"TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_{h}")), "") for h in ("HI", "LO")]
    if not words[1].strip().isdecimal():
        return None
    high = int(words[0]) if words[0].strip().isdecimal() else 0
    return (high << 32) + int(words[1])


def channels_of(path: Path) -> int:
    """How many channels a file has; 0 where it is no audio that can be read."""
    try:
        return int(sf.info(path).channels)
    except (sf.LibsndfileError, RuntimeError, ValueError):
        return 0


def as_rf64(path: Path) -> None:
    """Give a copy of a BW64 file the older name of its layout, which readers know; other files are left alone."""
    with path.open("r+b") as file:
        if file.read(4) == b"BW64":
            file.seek(0)
            file.write(b"RF64")


def split(path: Path, folder: Path, progress: Callable[[float], None] = lambda _: None) -> list[Path]:
    """Write each channel as a file of its own, with the samples as they are. Raises :class:`AudioError`."""
    try:
        with sf.SoundFile(path) as source:
            if source.channels > MOST_CHANNELS:
                words = f"The file has {source.channels} channels"
                raise AudioError(f"{words}; {MOST_CHANNELS} are the most that can be read.")
            kind, suffix = ("FLAC", ".flac") if source.format == "FLAC" else ("RF64", ".wav")
            subtype = source.subtype if source.subtype in sf.available_subtypes(kind) else "FLOAT"
            exact = "int32" if subtype.startswith("PCM") else "float64" if subtype == "DOUBLE" else "float32"
            out = [folder / f"channel {k + 1}{suffix}" for k in range(source.channels)]
            files = [sf.SoundFile(p, "w", source.samplerate, 1, subtype, format=kind) for p in out]
            try:
                while len(block := source.read(_BLOCK, dtype=exact, always_2d=True)):
                    for k, file in enumerate(files):
                        file.write(block[:, k])
                    progress(source.tell() / max(1, source.frames))
            finally:
                for file in files:
                    file.close()
    except sf.LibsndfileError as e:
        raise AudioError(f"The file cannot be read: {e}.") from None
    return out
