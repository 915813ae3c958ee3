"""Small sound sets for tests, written after the SoundFont Technical Specification 2.04."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

Gens = dict[int, int]
KEYS, SAMPLE, MODES, ROOT, INSTRUMENT = 43, 53, 54, 58, 41


@dataclass
class Tone:
    """A preset of one zone that plays one sample."""

    samples: NDArray[np.float64]
    rate: int = 48_000
    key: int = 69
    loop: tuple[int, int] = (0, 0)
    bank: int = 0
    program: int = 0
    gens: Gens = field(default_factory=dict)
    preset_gens: Gens = field(default_factory=dict)


def _chunk(name: bytes, data: bytes) -> bytes:
    return name + struct.pack("<I", len(data)) + data + b"\0" * (len(data) % 2)


def _list(kind: bytes, *chunks: bytes) -> bytes:
    return _chunk(b"LIST", kind + b"".join(chunks))


def _gens(gens: Gens, last: int, value: int) -> list[tuple[int, int]]:
    ordered = sorted(gens.items(), key=lambda g: g[0] != KEYS)  # a key range has to come first
    return [*ordered, (last, value)]


def sound_font(tones: Sequence[Tone]) -> bytes:
    """The bytes of a sound set with a preset for each tone."""
    smpl, shdr = b"", b""
    phdr, pbag, pgen, inst, ibag, igen = b"", b"", b"", b"", b"", b""
    pgens: list[tuple[int, int]] = []
    igens: list[tuple[int, int]] = []
    for k, t in enumerate(tones):
        start = len(smpl) // 2
        smpl += np.clip(np.round(t.samples * 32767), -32768, 32767).astype("<i2").tobytes() + bytes(2 * 46)
        end = start + len(t.samples)
        shdr += struct.pack(
            "<20sIIIIIBbHH", b"tone", start, end, start + t.loop[0], start + t.loop[1], t.rate, t.key, 0, 0, 1
        )
        phdr += struct.pack("<20sHHHIII", b"tone", t.program, t.bank, k, 0, 0, 0)
        pbag += struct.pack("<HH", len(pgens), 0)
        pgens += _gens(t.preset_gens, INSTRUMENT, k)
        inst += struct.pack("<20sH", b"tone", k)
        ibag += struct.pack("<HH", len(igens), 0)
        igens += _gens(t.gens, SAMPLE, k)
    n = len(tones)
    phdr += struct.pack("<20sHHHIII", b"EOP", 0, 0, n, 0, 0, 0)
    pbag += struct.pack("<HH", len(pgens), 0)
    inst += struct.pack("<20sH", b"EOI", n)
    ibag += struct.pack("<HH", len(igens), 0)
    shdr += struct.pack("<20sIIIIIBbHH", b"EOS", 0, 0, 0, 0, 0, 0, 0, 0, 0)
    for g in pgens:
        pgen += struct.pack("<Hh", *g)
    for g in igens:
        igen += struct.pack("<Hh", *g)
    end_gen = struct.pack("<Hh", 0, 0)
    info = _list(b"INFO", _chunk(b"ifil", struct.pack("<HH", 2, 4)), _chunk(b"isng", b"EMU8000\0"),
                 _chunk(b"INAM", b"Test\0\0"))  # fmt: skip
    pdta = _list(
        b"pdta", _chunk(b"phdr", phdr), _chunk(b"pbag", pbag), _chunk(b"pmod", bytes(10)),
        _chunk(b"pgen", pgen + end_gen), _chunk(b"inst", inst), _chunk(b"ibag", ibag), _chunk(b"imod", bytes(10)),
        _chunk(b"igen", igen + end_gen), _chunk(b"shdr", shdr),
    )  # fmt: skip
    body = b"sfbk" + info + _list(b"sdta", _chunk(b"smpl", smpl)) + pdta
    return b"RIFF" + struct.pack("<I", len(body)) + body
