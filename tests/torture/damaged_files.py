"""Damaged files, made from sound ones: cut, flipped, filled, with other numbers in their headers."""

from __future__ import annotations

import io
import json
import random
import struct
import tempfile
from collections.abc import Iterator
from pathlib import Path

import mido
import numpy as np
import soundfile as sf

from core.formats import musicxml_map
from core.formats.carried import CarriedMap, Section, carry
from core.tempomap import TempoMap


def sound_files() -> dict[str, bytes]:
    """A file of every kind that Diachron reads, by name: eight seconds of strokes, or the notes and beats of such."""
    rng = np.random.default_rng(4)
    x = np.zeros(8 * 22_050)
    for at in range(11_025, len(x) - 3000, 11_025):
        x[at : at + 3000] += rng.standard_normal(3000) * np.exp(-np.arange(3000) / 300)
    x /= np.abs(x).max() * 1.1
    out = {}
    for kind, options in {
        "wav": {"format": "WAV", "subtype": "PCM_16"},
        "float.wav": {"format": "WAV", "subtype": "FLOAT"},
        "flac": {"format": "FLAC"},
        "ogg": {"format": "OGG"},
        "mp3": {"format": "MP3"},
        "aiff": {"format": "AIFF"},
    }.items():
        file = io.BytesIO()
        sf.write(file, x, 22_050, **options)
        out[f"take.{kind}"] = file.getvalue()
    file = io.BytesIO()
    _midi().save(file=file)
    out["take.mid"] = file.getvalue()
    beats = np.arange(0.5, 7.5, 0.5)
    rows = [f"{t},{k // 4 + 1},{k % 4 + 1}" for k, t in enumerate(beats)]
    out["beats.csv"] = "\n".join(["seconds,bar,beat", *rows]).encode()
    out["beats.txt"] = "".join(f"{t}\t{t}\t{k % 4 + 1}\n" for k, t in enumerate(beats)).encode()
    data = [{"time": t, "duration": 0.0, "value": k % 4 + 1, "confidence": 1} for k, t in enumerate(beats)]
    annotation = {"namespace": "beat", "data": data, "annotation_metadata": {}, "sandbox": {}}
    jams = {"annotations": [annotation], "file_metadata": {"duration": 8.0, "title": "Take"}, "sandbox": {}}
    out["beats.jams"] = json.dumps(jams).encode()
    tempo_map = TempoMap.from_beats(beats)
    sections = (Section(0.5, 4.5, "Verse"), Section(4.5, 7.5, "Refrain"))
    out["chart.musicxml"] = musicxml_map.write(tempo_map, "Take", sections).encode()
    out |= _with_map(out, CarriedMap(tempo_map, "Take", sections))
    file = io.BytesIO()
    sf.write(file, np.column_stack([x, x / 2, -x])[:44_100], 22_050, format="WAV")
    out["many channels.wav"] = file.getvalue()
    return out


def _with_map(files: dict[str, bytes], carried: CarriedMap) -> dict[str, bytes]:
    """The recordings with the map inside."""
    out = {}
    with tempfile.TemporaryDirectory() as folder:
        for name in ("take.wav", "take.flac", "take.ogg", "take.mp3"):
            source, target = Path(folder) / name, Path(folder) / f"with map.{name}"
            source.write_bytes(files[name])
            carry(source, target, carried)
            out[target.name] = target.read_bytes()
    return out


def _midi() -> mido.MidiFile:
    file = mido.MidiFile(ticks_per_beat=480)
    track = mido.MidiTrack(
        [
            mido.MetaMessage("set_tempo", tempo=500_000),
            mido.MetaMessage("time_signature"),
            mido.MetaMessage("key_signature", key="Dm"),
            mido.MetaMessage("track_name", name="Keys"),
        ]
    )
    for k in range(24):
        track.append(mido.Message("note_on", note=60 + k % 5, velocity=90, time=0))
        track.append(mido.Message("note_off", note=60 + k % 5, time=480))
    file.tracks.append(track)
    return file  # fmt: skip


#: Numbers that a header may hold instead of its own.
_NUMBERS = [0, 1, 2, 0x7F, 0xFF, 0x7FFF, 0xFFFF, 0x7FFFFFFF, 0xFFFFFFFF, 8000, 999_999]


def damaged(data: bytes, rng: random.Random) -> bytes:
    """The bytes with one to three kinds of damage."""
    out = bytearray(data)
    for _ in range(rng.randint(1, 3)):
        if len(out) < 8:
            break
        kind = rng.choice(["cut", "flip", "fill", "number", "twice", "front", "text"])
        head = rng.random() < 0.6
        at = rng.randrange(min(len(out), 128) if head else len(out))
        if kind == "cut":
            del out[rng.randrange(len(out)) :]
        elif kind == "flip":
            for _ in range(rng.randint(1, 20)):
                out[rng.randrange(min(len(out), 128) if head else len(out))] ^= 1 << rng.randrange(8)
        elif kind == "fill":
            length = min(rng.randint(1, 4000), len(out) - at)
            out[at : at + length] = bytes([rng.choice([0, 255, 65])]) * length
        elif kind == "number":
            form = rng.choice(["<H", "<I", ">H", ">I"])
            size = struct.calcsize(form)
            value = rng.choice(_NUMBERS) & ((1 << 8 * size) - 1)
            out[at : at + size] = struct.pack(form, value)
        elif kind == "twice":
            piece = out[at : at + rng.randint(1, 5000)]
            out[at:at] = piece
        elif kind == "front":
            del out[: rng.randrange(min(len(out), 200))]
        else:
            out[at:at] = rng.choice([b"nan", b"1e999", b"-", b"\n\n", b",,,", b"\xff\xfe", b"99999999999999999999"])
    return bytes(out)


def damaged_files(count: int, seed: int) -> Iterator[tuple[str, bytes]]:
    """``count`` files by name."""
    rng = random.Random(seed)
    sound = list(sound_files().items())
    for number in range(count):
        name, data = sound[number % len(sound)]
        yield f"{number}-{name}", damaged(data, rng)
