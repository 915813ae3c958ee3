"""Reads sound sets in the SoundFont format: presets, their zones, and single samples on request.

After the SoundFont Technical Specification 2.04 (Creative Technology, 2006). Files whose samples are packed as Ogg
Vorbis (ending ``.sf3``) are read too: there a sample's start and end count bytes, and its loop counts from its own
beginning.
Only the tables are kept in memory; samples are read from the file when a note needs them.
"""

from __future__ import annotations

import io
from collections.abc import Iterator
from dataclasses import dataclass
from enum import IntEnum
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import soundfile as sf
from numpy.typing import NDArray

from core.errors import InputError


class SoundFontError(InputError):
    """The file is no sound set that can be read; the message says why."""


class G(IntEnum):
    """Generators by their numbers (section 8.1.3)."""

    START = 0
    END = 1
    LOOP_START = 2
    LOOP_END = 3
    START_COARSE = 4
    MOD_LFO_TO_PITCH = 5
    VIBRATO_TO_PITCH = 6
    MOD_ENV_TO_PITCH = 7
    FILTER_CUTOFF = 8
    FILTER_Q = 9
    MOD_LFO_TO_FILTER = 10
    MOD_ENV_TO_FILTER = 11
    END_COARSE = 12
    MOD_LFO_TO_VOLUME = 13
    PAN = 17
    MOD_LFO_DELAY = 21
    MOD_LFO_FREQUENCY = 22
    VIBRATO_DELAY = 23
    VIBRATO_FREQUENCY = 24
    MOD_ENV_DELAY = 25
    MOD_ENV_ATTACK = 26
    MOD_ENV_HOLD = 27
    MOD_ENV_DECAY = 28
    MOD_ENV_SUSTAIN = 29
    MOD_ENV_RELEASE = 30
    VOL_ENV_DELAY = 33
    VOL_ENV_ATTACK = 34
    VOL_ENV_HOLD = 35
    VOL_ENV_DECAY = 36
    VOL_ENV_SUSTAIN = 37
    VOL_ENV_RELEASE = 38
    KEY_TO_HOLD = 39
    KEY_TO_DECAY = 40
    INSTRUMENT = 41
    KEY_RANGE = 43
    VELOCITY_RANGE = 44
    LOOP_START_COARSE = 45
    KEY = 46
    VELOCITY = 47
    ATTENUATION = 48
    LOOP_END_COARSE = 50
    COARSE_TUNE = 51
    FINE_TUNE = 52
    SAMPLE = 53
    SAMPLE_MODES = 54
    SCALE_TUNING = 56
    EXCLUSIVE_CLASS = 57
    ROOT_KEY = 58


#: How many generators there are, and what they are where nothing is said (section 8.1.3).
_COUNT = 61
_DEFAULTS = {G.FILTER_CUTOFF: 13_500, G.SCALE_TUNING: 100, G.ROOT_KEY: -1, G.KEY: -1, G.VELOCITY: -1} | dict.fromkeys(
    (
        G.MOD_LFO_DELAY, G.VIBRATO_DELAY, G.MOD_ENV_DELAY, G.MOD_ENV_ATTACK, G.MOD_ENV_HOLD, G.MOD_ENV_DECAY,
        G.MOD_ENV_RELEASE, G.VOL_ENV_DELAY, G.VOL_ENV_ATTACK, G.VOL_ENV_HOLD, G.VOL_ENV_DECAY, G.VOL_ENV_RELEASE,
    ),
    -12_000,
)  # fmt: skip
#: What a preset may not add to (section 8.5): places in samples, and what is no amount.
_OF_INSTRUMENTS_ONLY = frozenset(
    (G.START, G.END, G.LOOP_START, G.LOOP_END, G.START_COARSE, G.END_COARSE, G.LOOP_START_COARSE, G.LOOP_END_COARSE,
     G.KEY, G.VELOCITY, G.SAMPLE, G.SAMPLE_MODES, G.EXCLUSIVE_CLASS, G.ROOT_KEY, G.INSTRUMENT, G.KEY_RANGE,
     G.VELOCITY_RANGE)
)  # fmt: skip

_TABLES = {
    b"phdr": np.dtype([("name", "S20"), ("preset", "<u2"), ("bank", "<u2"), ("bag", "<u2"), ("unused", "<u4", 3)]),
    b"pbag": np.dtype([("gen", "<u2"), ("mod", "<u2")]),
    b"pgen": np.dtype([("oper", "<u2"), ("amount", "<i2")]),
    b"inst": np.dtype([("name", "S20"), ("bag", "<u2")]),
    b"ibag": np.dtype([("gen", "<u2"), ("mod", "<u2")]),
    b"igen": np.dtype([("oper", "<u2"), ("amount", "<i2")]),
    b"shdr": np.dtype(
        [("name", "S20"), ("start", "<u4"), ("end", "<u4"), ("loop_start", "<u4"), ("loop_end", "<u4"),
         ("rate", "<u4"), ("key", "u1"), ("correction", "i1"), ("link", "<u2"), ("kind", "<u2")]
    ),
}  # fmt: skip
#: Zones of presets, counted with those of their instruments, that are read at most: large sets have some thousands.
_MOST_ZONES = 100_000
#: The flag of a sample that is packed as Ogg Vorbis.
_PACKED = 0x10


@dataclass(frozen=True, eq=False)
class Zone:
    """What sounds for a range of keys and velocities (both ends inclusive): ``generators`` is (61,) int."""

    keys: tuple[int, int]
    velocities: tuple[int, int]
    generators: NDArray[np.int64]

    def sounds(self, key: int, velocity: int) -> bool:
        return self.keys[0] <= key <= self.keys[1] and self.velocities[0] <= velocity <= self.velocities[1]


@dataclass(frozen=True, eq=False)
class Sample:
    """``values`` (n,) float32 at ``rate``; the loop's ends count from its beginning; ``key`` is the MIDI key that it
    sounds at, ``cents`` what is added to it."""

    values: NDArray[np.float32]
    rate: int
    loop: tuple[int, int]
    key: int
    cents: int


class SoundFont:
    """A sound set's tables. Raises :class:`SoundFontError` where the file is none."""

    def __init__(self, path: Path) -> None:
        self.path = path
        with path.open("rb") as file:
            found = dict(_chunks(file))
        missing = [name.decode() for name in (b"smpl", *_TABLES) if name not in found]
        if missing:
            raise SoundFontError(f"“{path.name}” is no SoundFont: it has no {missing[0]}.")
        with path.open("rb") as file:
            tables = {name: _table(file, *found[name], kind) for name, kind in _TABLES.items()}
        self._samples_at = found[b"smpl"][0]
        self._headers = tables[b"shdr"]
        try:
            self.presets = _presets(tables)
        except IndexError:
            raise SoundFontError(f"“{path.name}” is damaged: its tables point past their ends.") from None

    def zones(self, bank: int, program: int, key: int, velocity: int) -> list[Zone]:
        """The zones that a note sounds; none where the set has no such preset."""
        return [z for z in self.presets.get((bank, program), []) if z.sounds(key, velocity)]

    def sample(self, number: int) -> Sample:
        """One sample, read from the file. Raises :class:`SoundFontError` where it is damaged."""
        if not 0 <= number < len(self._headers) - 1:
            raise SoundFontError(f"“{self.path.name}” has no sample {number}.")
        h = self._headers[number]
        start, end, loop = int(h["start"]), int(h["end"]), (int(h["loop_start"]), int(h["loop_end"]))
        packed = bool(h["kind"] & _PACKED)
        with self.path.open("rb") as file:
            file.seek(self._samples_at + (start if packed else 2 * start))
            data = file.read(max(0, end - start) * (1 if packed else 2))
        if packed:
            try:
                values = sf.read(io.BytesIO(data), dtype="float32", always_2d=True)[0][:, 0]
            except sf.LibsndfileError as e:
                raise SoundFontError(f"“{self.path.name}”: sample {number} cannot be read ({e}).") from e
        else:
            values = np.frombuffer(data[: len(data) // 2 * 2], "<i2").astype(np.float32) / 32768
            loop = (loop[0] - start, loop[1] - start)
        return Sample(values, max(1, int(h["rate"])), loop, int(h["key"]), int(h["correction"]))


def _chunks(file: BinaryIO) -> Iterator[tuple[bytes, tuple[int, int]]]:
    """Each chunk's name with where its contents begin and how many bytes they are, inside lists too."""
    head = file.read(12)
    if len(head) < 12 or head[:4] != b"RIFF" or head[8:] != b"sfbk":
        raise SoundFontError("This is no SoundFont: it does not begin like one.")
    size = file.seek(0, io.SEEK_END)
    at = 12
    while at + 8 <= size:
        file.seek(at)
        name, length = file.read(4), int.from_bytes(file.read(4), "little")
        if name == b"LIST":
            at += 12
            continue
        yield name, (at + 8, min(length, size - at - 8))
        at += 8 + length + length % 2


def _table(file: BinaryIO, at: int, length: int, kind: np.dtype[Any]) -> NDArray[Any]:
    file.seek(at)
    return np.frombuffer(file.read(length // kind.itemsize * kind.itemsize), kind)


def _presets(tables: dict[bytes, NDArray[Any]]) -> dict[tuple[int, int], list[Zone]]:
    instruments = [_zones(tables, b"i", k, int(G.SAMPLE)) for k in range(len(tables[b"inst"]) - 1)]
    presets: dict[tuple[int, int], list[Zone]] = {}
    count = 0
    for k, head in enumerate(tables[b"phdr"][:-1]):
        zones = []
        for keys, velocities, amounts in _zones(tables, b"p", k, int(G.INSTRUMENT)):
            for own_keys, own_velocities, own in instruments[amounts[G.INSTRUMENT]]:
                both = (max(keys[0], own_keys[0]), min(keys[1], own_keys[1]))
                loud = (max(velocities[0], own_velocities[0]), min(velocities[1], own_velocities[1]))
                if both[0] <= both[1] and loud[0] <= loud[1]:
                    zones.append(Zone(both, loud, _generators(own, amounts)))
            count += 1 + len(instruments[amounts[G.INSTRUMENT]])
            if count > _MOST_ZONES:
                raise SoundFontError("The sound set has more zones than any instrument needs; it may be damaged.")
        presets[int(head["bank"]), int(head["preset"])] = zones
    return presets


_Range = tuple[int, int]
_Amounts = dict[int, int]


def _zones(tables: dict[bytes, NDArray[Any]], of: bytes, k: int, last: int) -> list[tuple[_Range, _Range, _Amounts]]:
    """The zones of a preset (``of`` p) or instrument (i): key range, velocity range, amounts of generators. A first
    zone that does not end in ``last`` holds what all others have where they say nothing (section 7.7)."""
    heads = tables[b"phdr" if of == b"p" else b"inst"]
    bags, gens = tables[of + b"bag"], tables[of + b"gen"]
    common: _Amounts = {}
    out = []
    first, end = int(heads[k]["bag"]), int(heads[k + 1]["bag"])
    for b in range(first, end):
        own = {int(g["oper"]): int(g["amount"]) for g in gens[int(bags[b]["gen"]) : int(bags[b + 1]["gen"])]}
        if last not in own:
            if b == first:
                common = own
            continue
        amounts = common | own
        out.append((_range(amounts.get(G.KEY_RANGE)), _range(amounts.get(G.VELOCITY_RANGE)), amounts))
    return out


def _range(amount: int | None) -> _Range:
    return (0, 127) if amount is None else (amount & 0xFF, (amount >> 8) & 0xFF)


def _generators(own: _Amounts, preset: _Amounts) -> NDArray[np.int64]:
    out = np.zeros(_COUNT, dtype=np.int64)
    for g, value in (_DEFAULTS | own).items():
        if g < _COUNT:
            out[g] = value
    for g, value in preset.items():
        if g < _COUNT and g not in _OF_INSTRUMENTS_ONLY:
            out[g] += value
    return out
